import { readFile } from 'node:fs/promises'
import path from 'node:path'
import PDFDocument from 'pdfkit'
import { decompress } from 'wawoff2'
import { formatSize } from '@/core/bytes/size'
import { type Sheet, sheetAdvice, sheetRows, sheetTitle } from '@/core/handover/sheet'
import { singleton } from '../../ground/singleton'

const MARGIN = 54
const PAGE = { width: 595.28, height: 841.89 }
const WIDTH = PAGE.width - 2 * MARGIN
const NAME_WIDTH = 92
const INK = '#16302e'
const SOFT = '#56635d'
const LINE = '#c9bfa8'

const FONTS = {
  sans: '@fontsource-variable/archivo/files/archivo-latin-standard-normal.woff2',
  mono: '@fontsource/ibm-plex-mono/files/ibm-plex-mono-latin-400-normal.woff2',
} as const

/** The fonts of the pages, as the PDF takes them; unpacked once. */
const fonts = () =>
  singleton('pdf-fonts', async () => {
    const open = async (file: string) =>
      Buffer.from(
        await decompress(await readFile(path.join(/* turbopackIgnore: true */ process.cwd(), 'node_modules', file))),
      )
    return { sans: await open(FONTS.sans), mono: await open(FONTS.mono) }
  })

/** The sheet as PDF, A4. */
export async function sheetPdf(sheet: Sheet): Promise<Uint8Array> {
  const { sans, mono } = await fonts()
  const doc = new PDFDocument({
    size: 'A4',
    margin: MARGIN,
    bufferPages: true,
    info: { Title: sheetTitle(sheet), Author: sheet.shop, Creator: 'Imbarco' },
  })
  const chunks: Buffer[] = []
  const ended = new Promise<void>((resolve, reject) => {
    doc.on('data', (chunk: Buffer) => chunks.push(chunk))
    doc.on('end', () => resolve())
    doc.on('error', reject)
  })
  doc.registerFont('sans', sans).registerFont('mono', mono)
  new Writer(doc).write(sheet)
  doc.end()
  await ended
  return Buffer.concat(chunks)
}

/** Puts a sheet on pages, one block under the other. */
class Writer {
  constructor(private readonly doc: PDFKit.PDFDocument) {}

  write(sheet: Sheet): void {
    const { doc } = this
    doc.font('sans').fontSize(16).fillColor(INK)
    doc.text(sheetTitle(sheet), MARGIN, MARGIN, { width: WIDTH })
    doc.font('mono').fontSize(8.5).fillColor(SOFT)
    const closed = sheet.handedOver ? `, handed over ${sheet.handedOver.day}, ${sheet.handedOver.time}` : ''
    doc.text(`${sheet.shop} · ${sheet.day}${closed}`)
    this.rule()
    for (const [name, value] of sheetRows(sheet)) this.row(name, value)
    this.heading('Partitions')
    for (const p of sheet.partitions)
      this.row(p.title, `${formatSize(p.before)} before, ${formatSize(p.after)} now, ${formatSize(p.usedBytes)} used`)
    this.heading(`First start, ${sheet.start.time}`)
    for (const link of sheet.start.links) this.row(link.title, `${STATES[link.state]}${link.found}`)
    for (const check of sheet.start.checks) this.row(check.title, `${check.passed ? '' : 'FAILED: '}${check.found}`)
    this.heading('What you should know')
    for (const sentence of sheetAdvice(sheet)) this.sentence(sentence)
    const { count } = doc.bufferedPageRange()
    for (let i = 0; i < count; i++) {
      doc.switchToPage(i)
      // Below the margin, where text would begin a page of its own.
      doc.page.margins.bottom = 0
      doc.font('mono').fontSize(8).fillColor(SOFT)
      const words = `${sheet.move.name}, ${sheet.move.customer} · page ${i + 1} of ${count}`
      doc.text(words, MARGIN, PAGE.height - 36, { width: WIDTH, align: 'right', lineBreak: false })
    }
  }

  private row(name: string, value: string): void {
    const { doc } = this
    doc.font('mono').fontSize(9)
    const height = Math.max(12, doc.heightOfString(value, { width: WIDTH - NAME_WIDTH, lineGap: 1.5 }))
    this.room(height)
    const { y } = doc
    doc.font('sans').fontSize(8).fillColor(SOFT)
    doc.text(name, MARGIN, y + 0.5, { width: NAME_WIDTH - 8 })
    const after = doc.y
    doc.font('mono').fontSize(9).fillColor(INK)
    doc.text(value, MARGIN + NAME_WIDTH, y, { width: WIDTH - NAME_WIDTH, lineGap: 1.5 })
    doc.y = Math.max(doc.y, after) + 3
    doc.x = MARGIN
  }

  private heading(text: string): void {
    this.room(60)
    this.doc.moveDown(0.6)
    this.doc.font('sans').fontSize(11).fillColor(INK).text(text, MARGIN, this.doc.y, { width: WIDTH })
    this.rule()
  }

  private sentence(text: string): void {
    const { doc } = this
    doc.font('mono').fontSize(9).fillColor(INK)
    this.room(doc.heightOfString(text, { width: WIDTH - 14, lineGap: 1.5 }))
    const { y } = doc
    doc.text('·', MARGIN, y, { lineBreak: false })
    doc.text(text, MARGIN + 14, y, { width: WIDTH - 14, lineGap: 1.5 })
    doc.y += 3
  }

  private rule(): void {
    const { doc } = this
    doc
      .moveTo(MARGIN, doc.y + 3)
      .lineTo(PAGE.width - MARGIN, doc.y + 3)
      .lineWidth(0.6)
      .stroke(LINE)
    doc.y += 9
  }

  /** A new page where what comes next would not go on this one whole. */
  private room(height: number): void {
    if (this.doc.y + height > PAGE.height - MARGIN) this.doc.addPage()
  }
}

const STATES = { passed: '', unproved: 'not followed: ', failed: 'FAILED: ', 'not-reached': 'not reached: ' }
