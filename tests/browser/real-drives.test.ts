import { spawn, spawnSync } from 'node:child_process'
import {
  copyFileSync,
  existsSync,
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  rmSync,
  statSync,
  writeFileSync,
} from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { layDemoBench } from '../support/demo-bench'
import { gdiskPartitions, gdiskProblems } from '../support/independent'
import { canHaveLoops, CHART, failsIn, Loops, run, sectorOf, systemDisk } from '../support/loops'
import { expectAccessible } from './support/axe'
import { Page } from './support/browser'
import { serve, type Served, startInVain } from './support/serve'
import { typePlate } from './support/steps'

const LONG = 120_000

/** Whether a card of this computer hangs at a network. */
function isOnNetwork(): boolean {
  const cards = '/sys/class/net'
  return readdirSync(cards).some((card) => {
    if (!existsSync(path.join(cards, card, 'device'))) return false
    // Of one that is switched off the kernel tells nothing.
    return spawnSync('cat', [path.join(cards, card, 'carrier')], { encoding: 'utf8' }).stdout.trim() === '1'
  })
}
const MIB = 1024 * 1024

// Where the kernel gives no loop devices, this is skipped as a whole.
describe.runIf(canHaveLoops())('the drives of this computer', () => {
  let folder: string
  let loops: Loops
  let served: Served
  let page: Page
  let source: string
  let from: string
  let to: string
  let target: string
  let move: string
  const plate = () => String(Number(run('blockdev', '--getsz', to))).slice(-4)

  beforeAll(async () => {
    folder = mkdtempSync(path.join(tmpdir(), 'imbarco-real-'))
    loops = new Loops(folder)
    source = path.join(folder, 'source.img')
    const bytes = await systemDisk(source)
    const chart = sectorOf(readFileSync(source), CHART)
    const bad = chart + 6 * 2048 + 3
    // Its readings take their time, so that there is some to pull the other one out.
    const command = `sleep 0.01; ${failsIn(bad * 512, (bad + 1) * 512)}`
    const file = await loops.throughCommand('old', source, command)
    from = loops.attach(file, '-r')
    target = loops.blank('new.img', bytes + 128 * MIB + 4096)
    to = loops.attach(target)
    const data = path.join(folder, 'data')
    mkdirSync(data)
    served = await serve({ data, env: { IMBARCO_DEVICES: 'loops' } })
    page = await Page.launch(served.url)
  }, LONG)

  afterAll(async () => {
    try {
      expect(await page.complaints()).toEqual([])
    } finally {
      await page.close()
      await served.close()
      loops.release()
      rmSync(folder, { recursive: true, force: true })
    }
  })

  const quay = (loop: string) => `[data-testid="quay-port.${path.basename(loop)}"]`
  const isShown = async (css: string) => (await page.driver.findElements({ css })).length > 0

  /** Opens a move of what is looked at onto a drive, and goes on up to where it can be copied. */
  async function planOnto(loop: string, sectorSize: number): Promise<void> {
    await page.click(/Move this system/)
    await page.untilFinding(/Where does/)
    const bytes = Number(run('blockdev', '--getsize64', loop))
    // Whatever else is plugged in here, that one.
    const named = `Loop device ${Math.round(bytes / 1e6)} MB, ${bytes / sectorSize}`
    await page.pick('Target, will be erased', named)
    await page.next(/Open the move/)
    await page.untilFinding(/is used/)
    await page.next(/Continue to Route/)
    await page.untilFinding(/One route works/)
    await page.next(/Use this route/)
    await page.untilFinding(/It fits/)
    await page.next(/Lock this fit/)
    await page.untilFinding(/can start/)
    await page.click(/Continue without/)
    await page.untilFinding(/^It can start/)
  }

  /** The same, and copies it up to its verified end. */
  async function moveTo(loop: string, sectorSize: number): Promise<void> {
    await planOnto(loop, sectorSize)
    const sectors = Number(run('blockdev', '--getsize64', loop)) / sectorSize
    await typePlate(page, String(sectors).slice(-4))
    await page.next(/Erase and copy/)
    await page.untilFinding(/all of it reads back equal/)
  }

  it('are on the bench as they are plugged in, and come and go by themselves', { timeout: LONG }, async () => {
    await page.open('/bench')
    await page.untilText(/Real drives/)
    for (const loop of [from, to]) expect(await isShown(quay(loop))).toBe(true)
    const third = loops.attach(loops.blank('third.img', 64 * MIB))
    await page.until(() => isShown(quay(third)), 'a drive that was plugged in')
    const over = loops.attach(third, '-r')
    await page.untilText(new RegExp(`in use: .*stands behind ${path.basename(over)}`))
    loops.detach(over)
    loops.detach(third)
    await page.until(async () => !(await isShown(quay(third))), 'a drive that was taken out')
    await page.untilText(/131072 sectors/)
    await expectAccessible(page, 'the bench of this computer')
  })

  it('are surveyed, planned for and fitted like any other', { timeout: LONG }, async () => {
    await page.click(/Loop device 419 MB/, `${quay(from)} button`)
    await page.next(/Look inside/)
    await page.untilFinding(/Harbour/)
    await planOnto(to, 512)
  })

  it('are not written while anything uses them', { timeout: LONG }, async () => {
    const over = loops.attach(to, '-r')
    await page.untilFinding(/can start|in use/)
    await page.untilText(new RegExp(`is in use here: .*stands behind ${path.basename(over)}`))
    await expectAccessible(page, 'a target that is in use')
    loops.detach(over)
    await page.untilFinding(/^It can start/)
  })

  it('are copied, past a target that is pulled out and comes back elsewhere', { timeout: LONG }, async () => {
    await typePlate(page, plate())
    await page.next(/Erase and copy/)
    await page.untilFinding(/of 30\.0 MiB copied/)
    await page.click(/^Pause/)
    await page.untilText(/copy paused/)
    const before = to
    loops.detach(to)
    await page.untilText(/no longer connected/)
    const other = loops.attach(loops.blank('other.img', 96 * MIB))
    to = loops.attach(target)
    expect([other, to === before]).toEqual([before, false])
    await page.untilText(new RegExp(`Target, unfinished[^]*Loop device ${to.slice('/dev/loop'.length)}\\n`))
    await page.next(/Resume the copy/)
    await page.untilFinding(/^Copied, but/)
    const text = await page.text()
    expect(text).toMatch(/north\.tif/)
    expect(readFileSync(path.join(folder, 'other.img')).every((byte) => byte === 0)).toBe(true)
  })

  it('hold what another driver reads', { timeout: LONG }, async () => {
    expect(gdiskProblems(target)).toBe('')
    const partitions = [...gdiskPartitions(target).values()].sort((a, b) => b.last - b.first - (a.last - a.first))
    const [{ first, last }] = partitions
    const mount = path.join(folder, 'mount')
    mkdirSync(mount)
    const place = ['-o', `${first * 512}`, '--sizelimit', `${(last - first + 1) * 512}`]
    run('ntfs-3g', '-o', 'ro', loops.attach(target, '-r', ...place), mount)
    loops.atEnd(() => spawnSync('umount', [mount]))
    const chart = readFileSync(path.join(mount, 'Charts', 'north.tif'))
    // All but the page that was lost of it.
    const differing = [...chart].filter((byte, i) => byte !== CHART[i]).length
    expect([chart.length, differing > 0, differing <= 8192]).toEqual([CHART.length, true, true])
  })

  it('have their steps of the swap ticked as they are taken out', { timeout: LONG }, async () => {
    move = (await page.path()).replace(/\/copy$/, '')
    await page.next(/Continue to Swap/)
    await page.untilText(/Step 1 of/)
    loops.detach(from)
    await page.untilText(/Step 2 of/)
    run('umount', path.join(folder, 'mount'))
    loops.detach(to)
    await page.untilText(/Step 3 of/)
    await page.open('/shelf')
    await page.untilText(/Loop device/)
  })

  it(
    'are followed in their start while they are here, and what the computer did is said',
    { timeout: LONG },
    async () => {
      to = loops.attach(target)
      await page.open('/bench')
      await page.until(() => isShown(quay(to)), 'the new drive to be back')
      await page.open(`${move}/proof`)
      await page.untilFinding(/Nobody has seen/)
      await page.next(/Follow the start/)
      await page.untilFinding(/It would (start|stop)/)
      await expectAccessible(page, 'a start that was followed')
      await page.next(/Continue to Swap/)
      await page.untilText(/Step 3 of \d+/)
      loops.detach(to)
      // What goes on at another computer is said, step by step.
      const steps = Number(/Step 3 of (\d+)/.exec(await page.text())![1])
      for (let step = 4; step <= steps; step++) {
        await page.press(' ')
        await page.untilText(new RegExp(`Step ${step} of ${steps}`))
      }
      await page.press(' ')
      await page.next(/Proof/)
      await page.click(/It did not start/)
      await page.untilFinding(/did not start/)
      await page.next(/It started from the new drive/)
      await page.untilFinding(/as was seen there/)
    },
  )

  it('with sectors of 4096 bytes go onto one that has them, for the kernel to mount', { timeout: LONG }, async () => {
    const mount = mkdtempSync(path.join(folder, 'books-'))
    /** Where its one partition is, for a loop device of its own. */
    const placeOn = (loop: string) => {
      const { first, last } = gdiskPartitions(loop).get(1)!
      return ['-b', '4096', '-o', `${first * 4096}`, '--sizelimit', `${(last + 1 - first) * 4096}`]
    }
    const books = loops.blank('books.img', 256 * MIB)
    const whole = loops.attach(books, '-b', '4096')
    run('sgdisk', '-n', '1:0:+96M', '-t', '1:8300', whole)
    const volume = loops.attach(books, ...placeOn(whole))
    run('mkfs.ext4', '-q', '-L', 'Books', volume)
    run('mount', volume, mount)
    for (const name of ['tides.csv', 'moorings.csv']) writeFileSync(path.join(mount, name), CHART.subarray(0, 3 * MIB))
    mkdirSync(path.join(mount, 'etc'))
    writeFileSync(path.join(mount, 'etc', 'os-release'), 'PRETTY_NAME="Harbour office 3"\n')
    run('umount', mount)
    for (const loop of [volume, whole]) loops.detach(loop)
    const old = loops.attach(books, '-r', '-b', '4096')
    const file = loops.blank('more books.img', 320 * MIB)
    const target = loops.attach(file, '-b', '4096')
    await page.open('/bench')
    await page.until(async () => (await isShown(quay(old))) && isShown(quay(target)), 'both drives')
    await page.click(/Loop device/, `${quay(old)} button`)
    await page.next(/Look inside/)
    await page.untilFinding(/nothing wrong/)
    await moveTo(target, 4096)
    expect(gdiskProblems(target)).toBe('')
    const place = placeOn(target)
    for (const loop of [old, target]) loops.detach(loop)
    const copied = loops.attach(file, '-r', ...place)
    run('fsck.ext4', '-f', '-n', copied)
    run('mount', '-o', 'ro', copied, mount)
    loops.atEnd(() => spawnSync('umount', [mount]))
    expect(Buffer.compare(readFileSync(path.join(mount, 'moorings.csv')), CHART.subarray(0, 3 * MIB))).toBe(0)
  })

  it('take what an image holds that is a file here', { timeout: LONG }, async () => {
    copyFileSync(source, path.join(served.data, 'images', 'old desk.img'))
    const file = loops.blank('from image.img', statSync(source).size + 64 * MIB)
    const target = loops.attach(file)
    await page.open('/bench')
    await page.until(() => isShown(quay(target)), 'the drive')
    await page.open('/images/old%20desk.img')
    await page.untilFinding(/Harbour/)
    await moveTo(target, 512)
    loops.detach(target)
    expect(gdiskProblems(file)).toBe('')
    expect([...gdiskPartitions(file).keys()]).toEqual([...gdiskPartitions(source).keys()])
  })

  it.runIf(isOnNetwork())('take what another bench lends, over the network', { timeout: LONG }, async () => {
    const words = ['lend', source, '--allow', '--json', '--port', '0']
    const lender = spawn('bin/imbarco', words, { stdio: ['pipe', 'pipe', 'ignore'] })
    try {
      const line = await new Promise<string>((said) => lender.stdout.once('data', (text) => said(String(text))))
      const { uri, code } = JSON.parse(line) as { uri: string; code: string }
      const file = loops.blank('from afar.img', statSync(source).size + 32 * MIB)
      const target = loops.attach(file)
      await page.open('/bench')
      await page.until(() => isShown(quay(target)), 'the drive')
      await page.click(/Borrow a drive/)
      await page.fill('Address, as the other bench shows it', uri)
      await page.fill('Code, for an address that begins with nbds://', code)
      await page.fill('Name of that bench, where it says none', 'Attic')
      await page.send()
      await page.untilText(/connected; for reading/)
      await page.open('/bench')
      await page.click(/source 419 MB/, 'button')
      await page.next(/Look inside/)
      await page.untilFinding(/Harbour/)
      await moveTo(target, 512)
      loops.detach(target)
      expect([...gdiskPartitions(file).keys()]).toEqual([...gdiskPartitions(source).keys()])
    } finally {
      lender.kill()
    }
  })

  it('are kept apart from those of a simulated bench', { timeout: LONG }, async () => {
    const demo = path.join(folder, 'demo')
    mkdirSync(demo)
    await layDemoBench(demo)
    const there = await startInVain(demo, { IMBARCO_DEVICES: 'drives' })
    expect([there.code === 0, there.said]).toEqual([false, expect.stringMatching(/IMBARCO_DATA/)])
    await page.driver.get('about:blank')
    await served.kill()
    const here = await startInVain(served.data)
    expect([here.code === 0, here.said]).toEqual([false, expect.stringMatching(/--devices/)])
  })
})
