// Files that the page gives to the reader.
import { type Filter, queryOf } from '../api/client'
import { base } from './base'

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
  return fetchFile(`/v1/jobs/export?${query}`)
}

/** exportList fetches a whole list and gives it to the reader as a file. */
export async function exportList(list: string, format: 'csv' | 'jsonl') {
  const file = await fetchFile(`${list}${list.includes('?') ? '&' : '?'}format=${format}`)
  save(file.name, file.body)
}

async function fetchFile(path: string) {
  const answer = await fetch(base + path)
  if (!answer.ok) throw new Error(((await answer.json()) as { detail?: string }).detail ?? answer.statusText)
  const name = /filename="([^"]+)"/.exec(answer.headers.get('Content-Disposition') ?? '')?.[1] ?? 'list'
  return { name, body: await answer.blob() }
}

function save(name: string, body: Blob) {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(body)
  link.download = name
  link.click()
  setTimeout(() => URL.revokeObjectURL(link.href), 60_000)
}
