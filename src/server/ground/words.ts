import { addDays, format } from 'date-fns'

/** Bench time has no zone: its milliseconds are read as UTC and shown as they are. */
function wall(at: number): Date {
  const date = new Date(at)
  return new Date(
    date.getUTCFullYear(),
    date.getUTCMonth(),
    date.getUTCDate(),
    date.getUTCHours(),
    date.getUTCMinutes(),
    date.getUTCSeconds(),
  )
}

/** `09:41` */
export function clockTime(at: number): string {
  return format(wall(at), 'HH:mm')
}

/** `09:41:07` */
export function clockSeconds(at: number): string {
  return format(wall(at), 'HH:mm:ss')
}

/** `4 May 2026` */
export function calendarDay(at: number): string {
  return format(wall(at), 'd MMMM yyyy')
}

/** `2026-05-18`, so many days later. */
export function dayAfter(at: number, days: number): string {
  return format(addDays(wall(at), days), 'yyyy-MM-dd')
}

/** The later of two days given as `2026-05-18`; an empty one is before all others. */
export function laterDay(a: string, b: string): string {
  return a > b ? a : b
}

/** Days from bench time to a day given as `2026-05-18`. */
export function daysUntil(at: number, day: string): number {
  return Math.ceil((Date.parse(`${day}T00:00:00Z`) - at) / 86_400_000)
}

/** `2 May` of a day given as `2026-05-02`. */
export function dayWords(day: string): string {
  return format(wall(Date.parse(`${day}T00:00:00Z`)), 'd MMM')
}

/** `18 May 2026` of a day given as `2026-05-18`. */
export function dayWithYear(day: string): string {
  return calendarDay(Date.parse(`${day}T00:00:00Z`))
}

/** `4 May, 13:00` of a time given as `2026-05-04T13:00`; empty for none. */
export function promiseWords(time: string): string {
  return time === '' ? '' : format(wall(Date.parse(`${time}:00Z`)), 'd MMM, HH:mm')
}
