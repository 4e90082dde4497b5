// Files that the page gives to the reader.
import { token } from '../api/access'
import { type Filter, queryOf } from '../api/client'

/** How many ids a call takes. */
const mostIDs = 500

/** exportJobs fetches all jobs that match, or some of them, and gives them to the reader as a file. */
export async function exportJobs(filter: Filter, format: 'csv' | 'jsonl', ids?: number[]) {
  const parts = ids
    ? Array.from({ length: Math.ceil(ids.length / mostIDs) }, (_, i) => ids.slice(i * mostIDs, (i + 1) * mostIDs))
    : [undefined]
  const files: Blob[] = []
  let name = `jobs.${format}`
  for (const [i, part] of parts.entries()) {
    const file = await fetchJobs(filter, format, part)
    name = file.name
    // The names of the columns stand at the head of the whole.
    files.push(i > 0 && format === 'csv' ? new Blob([(await file.body.text()).replace(/^.*\r\n/, '')]) : file.body)
  }
  save(name, new Blob(files, { type: files[0]!.type }))
}

async function fetchJobs(filter: Filter, format: 'csv' | 'jsonl', ids?: number[]) {
  const query = new URLSearchParams({ format })
  for (const [name, value] of Object.entries({ ...queryOf(filter), order: filter.order, ...(ids ? { ids } : {}) })) {
    if (name === 'label') ((value as string[] | undefined) ?? []).forEach((l) => query.append('label', l))
    else if (value !== undefined) query.set(name, Array.isArray(value) ? value.join(',') : String(value))
  }
  const answer = await fetch(`/v1/jobs/export?${query}`, { headers: token ? { Authorization: `Bearer ${token}` } : {} })
  if (!answer.ok) throw new Error(((await answer.json()) as { detail?: string }).detail ?? answer.statusText)
  const name = /filename="([^"]+)"/.exec(answer.headers.get('Content-Disposition') ?? '')?.[1] ?? `jobs.${format}`
  return { name, body: await answer.blob() }
}

/** saveCSV gives rows to the reader as a file in CSV (RFC 4180). */
export function saveCSV(name: string, head: string[], rows: (string | number | undefined)[][]) {
  const cell = (v: string | number | undefined) =>
    /[",\r\n]/.test(String(v ?? '')) ? `"${String(v).replaceAll('"', '""')}"` : String(v ?? '')
  const text = [head, ...rows].map((row) => row.map(cell).join(',') + '\r\n').join('')
  save(name, new Blob([text], { type: 'text/csv;charset=utf-8' }))
}

/** saveLines gives values to the reader as a file in JSON Lines. */
export function saveLines(name: string, values: unknown[]) {
  save(
    name,
    new Blob(
      values.map((v) => JSON.stringify(v) + '\n'),
      { type: 'application/x-ndjson' },
    ),
  )
}

function save(name: string, body: Blob) {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(body)
  link.download = name
  link.click()
  setTimeout(() => URL.revokeObjectURL(link.href), 60_000)
}
