import { setTimeout } from 'node:timers/promises'
import { Browser, Builder, By, Key, logging, type WebDriver, type WebElement } from 'selenium-webdriver'
import chrome from 'selenium-webdriver/chrome'

/** How long a page may take to show what is waited for. */
const PATIENCE = 60_000
/** How often it is looked at meanwhile, at first and later: each look costs the page some time. */
const LOOK_EVERY_MS = 50
const LATER_MS = 150
const SOON_MS = 1500

/** The first element of a selector that can be clicked and whose text or label is like a pattern, looked for in the page itself. */
const FIRST_NAMED = `
  const [css, source, flags] = arguments
  const label = new RegExp(source, flags)
  return [...document.querySelectorAll(css)].find((element) =>
    label.test((element.innerText + ' ' + (element.getAttribute('aria-label') ?? '')).trim()) &&
    element.checkVisibility({ visibilityProperty: true }) && !element.disabled) ?? null`

/** A browser window as a technician uses it. */
export class Page {
  private constructor(
    readonly driver: WebDriver,
    private readonly base: string,
  ) {}

  static async launch(base: string, size = { width: 1280, height: 800 }): Promise<Page> {
    const options = new chrome.Options()
    options.addArguments(
      '--headless=new',
      '--no-sandbox',
      '--disable-gpu',
      '--disable-dev-shm-usage',
      '--no-first-run',
      '--disable-background-networking',
      '--disable-component-update',
      '--disable-sync',
      '--force-prefers-reduced-motion',
      '--hide-scrollbars',
      '--force-color-profile=srgb',
      `--window-size=${size.width},${size.height}`,
    )
    options.setChromeBinaryPath('/usr/bin/chromium')
    const preferences = new logging.Preferences()
    preferences.setLevel(logging.Type.BROWSER, logging.Level.SEVERE)
    options.setLoggingPrefs(preferences)
    const driver = await new Builder()
      .forBrowser(Browser.CHROME)
      .setChromeOptions(options)
      .setChromeService(new chrome.ServiceBuilder('/usr/bin/chromedriver'))
      .build()
    const page = new Page(driver, base)
    await page.resize(size.width, size.height)
    return page
  }

  /** Gives the page exactly this room. */
  async resize(width: number, height: number): Promise<void> {
    await (this.driver as chrome.Driver).sendDevToolsCommand('Emulation.setDeviceMetricsOverride', {
      width,
      height,
      deviceScaleFactor: 1,
      mobile: false,
    })
  }

  async open(path: string): Promise<void> {
    await this.driver.get(this.base + path)
    // Fully alive: the stream of events is open.
    await this.until(
      async () => (await this.driver.executeScript('return document.documentElement.dataset.live')) === 'true',
      'the page is live',
    )
  }

  /** Waits until `check` is true; `what` names it in the failure. */
  async until(check: () => Promise<boolean>, what: string, patience = PATIENCE): Promise<void> {
    const start = Date.now()
    while (!(await check().catch(() => false))) {
      const waited = Date.now() - start
      if (waited > patience) throw new Error(`waited for: ${what}`)
      await setTimeout(waited < SOON_MS ? LOOK_EVERY_MS : LATER_MS)
    }
  }

  async text(): Promise<string> {
    return this.driver.executeScript<string>('return document.body.innerText')
  }

  finding(): Promise<string> {
    return this.driver.executeScript<string>(`return document.querySelector('[data-testid="finding"]').innerText`)
  }

  async untilFinding(pattern: RegExp, patience = PATIENCE): Promise<string> {
    let last = ''
    try {
      await this.until(async () => pattern.test((last = await this.finding())), String(pattern), patience)
    } catch {
      throw new Error(`Waited for a finding like ${pattern}; the page says "${last}".`)
    }
    return last
  }

  async untilText(pattern: RegExp, patience = PATIENCE): Promise<void> {
    await this.until(async () => pattern.test(await this.text()), String(pattern), patience)
  }

  find(testId: string): Promise<WebElement> {
    return this.driver.wait(
      async () => (await this.driver.findElements(By.css(`[data-testid="${testId}"]`)))[0],
      PATIENCE,
      testId,
      LOOK_EVERY_MS,
    ) as Promise<WebElement>
  }

  /** Types into the field of this label, in place of what it holds. */
  async fill(label: string, text: string): Promise<void> {
    const field = await this.driver.findElement(
      By.xpath(`//label[normalize-space()='${label}']/following-sibling::input`),
    )
    await field.sendKeys(Key.chord(Key.CONTROL, 'a'), text)
  }

  /** Chooses the first entry of a form's list whose words begin so. */
  async pick(label: string, words: string): Promise<void> {
    const entry = `//label[normalize-space()='${label}']/following-sibling::select/option[starts-with(normalize-space(), '${words}')]`
    await this.until(async () => {
      const [option] = await this.driver.findElements(By.xpath(entry))
      await option?.click()
      return option !== undefined
    }, `${words} to choose`)
  }

  /** Sends the form of the open dialog, and waits until that is closed. */
  async send(): Promise<void> {
    await (await this.find('dialog-action')).click()
    await this.until(
      async () => (await this.driver.findElements(By.css('[role="dialog"]'))).length === 0,
      'the dialog to close',
    )
  }

  /** Picks a drive of the bench up and puts it down where the place's name is like this. */
  async put(drive: RegExp, place: RegExp): Promise<void> {
    await this.click(drive)
    await this.untilFinding(/is in hand/)
    await this.click(place)
    await this.untilFinding(/drives?, \d of them connected|failing/)
  }

  /** Clicks the one magenta button once it can be clicked and says `label`. */
  async next(label: RegExp): Promise<void> {
    await this.until(async () => {
      const button = await this.find('next-action')
      if (!label.test(await button.getText()) || !(await button.isEnabled())) return false
      await button.click()
      return true
    }, `the next action ${label}`)
  }

  /** Clicks the first button, link or menu item whose text is like `label`. */
  async click(label: RegExp, css = 'button, a, [role="menuitem"], [role="menuitemradio"]'): Promise<void> {
    await this.until(async () => {
      const found = await this.driver.executeScript<WebElement | null>(FIRST_NAMED, css, label.source, label.flags)
      await found?.click()
      return found !== null
    }, `something to click like ${label}`)
  }

  /** Keys to whatever has the focus. */
  /** Chooses an option of the list with that label. */
  async choose(label: RegExp, option: RegExp): Promise<void> {
    await this.until(async () => {
      for (const list of await this.driver.findElements(By.css('label:has(select)'))) {
        if (!label.test(await list.getText()) || !(await list.isDisplayed())) continue
        for (const choice of await list.findElements(By.css('option'))) {
          if (!option.test(await choice.getText())) continue
          await choice.click()
          return true
        }
      }
      return false
    }, `the choice ${label} ${option}`)
  }

  async press(...keys: string[]): Promise<void> {
    await this.driver
      .actions()
      .sendKeys(...keys)
      .perform()
  }

  async shortcut(modifier: string, key: string): Promise<void> {
    await this.driver.actions().keyDown(modifier).sendKeys(key).keyUp(modifier).perform()
  }

  async path(): Promise<string> {
    return new URL(await this.driver.getCurrentUrl()).pathname
  }

  /** The page as a printer would get it: a PDF in base64. */
  async print(): Promise<string> {
    const { data } = (await (this.driver as chrome.Driver).sendAndGetDevToolsCommand(
      'Page.printToPDF',
      {},
    )) as unknown as {
      data: string
    }
    return data
  }

  /** What the browser complained of since the last call, refused requests that a test made on purpose aside. */
  async complaints(): Promise<string[]> {
    const entries = await this.driver.manage().logs().get(logging.Type.BROWSER)
    return entries.map((entry) => entry.message).filter((text) => !/status of (4\d\d|507)/.test(text))
  }

  async close(): Promise<void> {
    await this.driver.quit()
  }
}

export { By, Key }
