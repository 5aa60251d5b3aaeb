import { existsSync } from 'node:fs'
import { setTimeout } from 'node:timers/promises'
import { Browser, Builder, By, Key, logging, type WebDriver, type WebElement } from 'selenium-webdriver'
import chrome from 'selenium-webdriver/chrome'

/** The browser without windows. The program itself, since the script that starts it does not end with it. */
const LEAN = '/usr/lib/chromium/chromium-headless-shell'
/** How long a page may take to show what is waited for. */
const PATIENCE = 60_000
/** How often it is looked at meanwhile, at first and later: each look costs the page some time. */
const LOOK_EVERY_MS = 50
const LATER_MS = 150
const SOON_MS = 1500

/** A look is taken in the page itself whenever something changes there, and for so long in one call. */
const SLICE_MS = 5000
/** `look` is the body of a function of `args` that gives null as long as there is nothing. */
const watching = (look: string) => `
  const [patience, ...args] = arguments
  const done = args.pop()
  const look = () => { ${look} }
  let waits = 0
  const end = (found) => {
    clearInterval(clock)
    clearTimeout(waits)
    observer.disconnect()
    done(found)
  }
  const check = () => {
    waits = 0
    const found = look()
    if (found !== null) end(found)
    else if (performance.now() - start > patience) end(null)
  }
  const start = performance.now()
  const observer = new MutationObserver(() => { waits ||= setTimeout(check, 80) })
  observer.observe(document, { subtree: true, childList: true, characterData: true, attributes: true })
  // What is shown can change by style alone.
  const clock = setInterval(check, 250)
  check()`

/** The first element of a selector that can be clicked and whose text or label is like a pattern. */
const FIRST_NAMED = `
  const [css, source, flags] = args
  const label = new RegExp(source, flags)
  return [...document.querySelectorAll(css)].find((element) =>
    label.test((element.innerText + ' ' + (element.getAttribute('aria-label') ?? '')).trim()) &&
    element.checkVisibility({ visibilityProperty: true }) && !element.disabled) ?? null`

/** The words of an element, once they are like a pattern. */
const WORDS_LIKE = `
  const [css, source, flags] = args
  const words = document.querySelector(css)?.innerText ?? ''
  return new RegExp(source, flags).test(words) ? words : null`

const FINDING = '[data-testid="finding"]'
const ANYTHING_CLICKED = 'button, a, [role="menuitem"], [role="menuitemradio"]'

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
    options.setChromeBinaryPath(existsSync(LEAN) ? LEAN : '/usr/bin/chromium')
    const preferences = new logging.Preferences()
    preferences.setLevel(logging.Type.BROWSER, logging.Level.SEVERE)
    options.setLoggingPrefs(preferences)
    const driver = await new Builder()
      .forBrowser(Browser.CHROME)
      .setChromeOptions(options)
      .setChromeService(new chrome.ServiceBuilder('/usr/bin/chromedriver'))
      .build()
    await driver.manage().setTimeouts({ script: PATIENCE })
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
    await this.seen(`return document.documentElement.dataset.live === 'true' ? true : null`, 'the page is live')
  }

  /** Waits in the page until a look finds something, and gives it; `what` names it in the failure. */
  private async seen<T>(look: string, what: string, args: unknown[] = [], patience = PATIENCE): Promise<T> {
    const end = Date.now() + patience
    const script = watching(look)
    for (;;) {
      const left = end - Date.now()
      // A page that is left meanwhile ends the look with it.
      const found = await this.driver
        .executeAsyncScript<T | null>(script, Math.max(0, Math.min(left, SLICE_MS)), ...args)
        .catch(() => null)
      if (found !== null) return found
      if (left <= 0) throw new Error(`waited for: ${what}`)
      await setTimeout(LOOK_EVERY_MS)
    }
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
    const args = [FINDING, pattern.source, pattern.flags]
    return this.seen<string>(WORDS_LIKE, String(pattern), args, patience).catch(async () => {
      throw new Error(`Waited for a finding like ${pattern}; the page says "${await this.finding()}".`)
    })
  }

  async untilText(pattern: RegExp, patience = PATIENCE): Promise<void> {
    await this.seen(WORDS_LIKE, String(pattern), ['body', pattern.source, pattern.flags], patience)
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
    await this.click(label, '[data-testid="next-action"]')
  }

  /** Clicks the first button, link or menu item whose text is like `label`. */
  async click(label: RegExp, css = ANYTHING_CLICKED): Promise<void> {
    const what = `something to click like ${label}`
    await this.until(async () => {
      const found = await this.seen<WebElement>(FIRST_NAMED, what, [css, label.source, label.flags], SLICE_MS)
      await found.click()
      return true
    }, what)
  }

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

  /** Keys to whatever has the focus. */
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
