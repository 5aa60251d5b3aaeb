/** How a drive that is kept busy warms up, and when it is left to cool. Degrees Celsius. */
export interface HeatModel {
  readonly start: number
  /** What it would reach if it never rested. */
  readonly busy: number
  /** What it falls to at rest. */
  readonly idle: number
}

/** In so many seconds it goes two thirds of the way. */
const TIME_CONSTANT = 900

/** From here on a drive is left to rest, until it has cooled down to the second. */
export const TOO_WARM = 55
export const COOL_ENOUGH = 48

/** The temperature of a drive from what it does, as a body that takes on and gives off heat. */
export class Heat {
  celsius: number

  constructor(private readonly model: HeatModel) {
    this.celsius = model.start
  }

  /** It works for so many seconds. */
  work(seconds: number): void {
    this.toward(this.model.busy, seconds)
  }

  get tooWarm(): boolean {
    return this.celsius >= TOO_WARM
  }

  /** Seconds it has to rest before it goes on; it is cool after them. 0 when it never cools so far. */
  rest(): number {
    const { idle } = this.model
    if (idle >= COOL_ENOUGH) return 0
    const seconds = TIME_CONSTANT * Math.log((this.celsius - idle) / (COOL_ENOUGH - idle))
    this.toward(idle, seconds)
    return seconds
  }

  private toward(goal: number, seconds: number): void {
    this.celsius = goal + (this.celsius - goal) * Math.exp(-seconds / TIME_CONSTANT)
  }
}
