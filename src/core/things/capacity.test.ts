import { describe, expect, it } from 'vitest'
import { GIB } from '../bytes/size'
import { capacityOf, parseCapacity } from './capacity'

describe('the capacity of a drive', () => {
  it('is by the makers’ rule as it is sold, and a size as it is otherwise', () => {
    expect(parseCapacity('960 GB')).toBe(1_875_385_008 * 512)
    expect(parseCapacity('2tb')).toBe(capacityOf(2000))
    expect(parseCapacity('40 GB')).toBe(40e9)
    expect(parseCapacity('100 GiB')).toBe(100 * GIB)
    expect(parseCapacity('much')).toBeUndefined()
  })
})
