// Labels as they are entered: one a line, as name = value.

const lineOf = ([name, value]: [string, string]) => `${name} = ${value}`

/** labelLines writes labels as they stand in a field. */
export function labelLines(labels: Record<string, string> = {}): string {
  return Object.entries(labels).map(lineOf).join('\n')
}

/** labelsIn reads the labels of a field and names the line that is none. A line that was there before is the label that it was, whatever its name holds; one that is gone is empty, which removes it. */
export function labelsIn(text: string, before: Record<string, string> = {}): { labels: Record<string, string>; wrong?: string } {
  const was = new Map(Object.entries(before).map((label) => [lineOf(label), label]))
  const labels = new Map<string, string>()
  for (const line of text.split('\n').filter((l) => l.trim() !== '')) {
    const at = line.indexOf('=')
    if (at < 1 && !was.has(line)) return { labels: {}, wrong: `“${line.trim()}” is not a label; write name = value` }
    const [name, value] = was.get(line) ?? [line.slice(0, at).trim(), line.slice(at + 1).trim()]
    if (labels.has(name)) return { labels: {}, wrong: `“${name}” stands twice; a job has one value of it` }
    labels.set(name, value)
  }
  for (const name of Object.keys(before)) if (!labels.has(name)) labels.set(name, '')
  return { labels: Object.fromEntries(labels) }
}
