/** An id made from a name, numbered when it is taken. `fallback` stands for a name without letters and digits. */
export async function freeId(name: string, fallback: string, taken: (id: string) => Promise<boolean>): Promise<string> {
  const stem =
    name
      .toLowerCase()
      .replace(/[^a-z0-9]+/g, '-')
      .replace(/^-|-$/g, '')
      .slice(0, 40) || fallback
  let id = stem
  for (let n = 2; await taken(id); n++) id = `${stem}-${n}`
  return id
}
