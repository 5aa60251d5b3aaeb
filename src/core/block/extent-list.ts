import type { Extent } from './device'

/** Many extents in little memory: sixteen bytes each. Those that touch become one. */
export class ExtentList {
  private numbers = new Float64Array(1024)
  private count = 0

  /** In order of offset. */
  add({ offset, length }: Extent): void {
    const last = this.count - 2
    if (last >= 0 && this.numbers[last] + this.numbers[last + 1] === offset) {
      this.numbers[last + 1] += length
      return
    }
    if (this.count + 2 > this.numbers.length) {
      const more = new Float64Array(this.numbers.length * 2)
      more.set(this.numbers)
      this.numbers = more
    }
    this.numbers[this.count++] = offset
    this.numbers[this.count++] = length
  }

  *[Symbol.iterator](): Generator<Extent> {
    for (let i = 0; i < this.count; i += 2) yield { offset: this.numbers[i], length: this.numbers[i + 1] }
  }
}
