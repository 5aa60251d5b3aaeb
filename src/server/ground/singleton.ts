/**
 * One value for the whole process. Pages, route handlers and actions may be bundled apart, each with its own
 * copy of a module; what has state must still be one.
 */
export function singleton<T>(name: string, make: () => T): T {
  const store = globalThis as unknown as Record<symbol, T | undefined>
  const key = Symbol.for(`imbarco.${name}`)
  return (store[key] ??= make())
}
