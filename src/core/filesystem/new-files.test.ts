import { describe, expect, it } from 'vitest'
import { CoreError } from '../errors'
import { buildTree } from './new-files'
import { baseName, splitPath } from './path'

const file = (path: string) => ({ path, content: new Uint8Array() })

describe('files for a new volume', () => {
  it('make the directories that their paths name', () => {
    const root = buildTree([file('/Museum/2024/a.dat'), file('/Museum/2024/b.dat'), file('/Museum/c.dat')])
    const museum = root.children!.get('MUSEUM')!
    expect([...museum.children!.keys()]).toEqual(['2024', 'C.DAT'])
    expect([...museum.children!.get('2024')!.children!.values()].map((n) => n.name)).toEqual(['a.dat', 'b.dat'])
  })

  it.each([
    ['a path that stands twice', ['/a', '/A']],
    ['a file where a directory is', ['/a/b', '/a']],
    ['a directory where a file is', ['/a', '/a/b']],
  ])('are refused with %s', (_what, paths) => {
    expect(() => buildTree(paths.map(file))).toThrow(CoreError)
  })
})

describe('paths', () => {
  it('split at both slashes', () => {
    expect(splitPath('\\EFI\\Microsoft//Boot/')).toEqual(['EFI', 'Microsoft', 'Boot'])
    expect(baseName('/Windows/System32/winload.efi')).toBe('winload.efi')
    expect(baseName('/')).toBe('')
  })
})
