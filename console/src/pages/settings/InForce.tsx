import { Link } from 'react-router'

import { type Setting, useSettings } from '../../api/client'

const fromWord: Record<Setting['from'], string> = {
  built_in: 'built in',
  file: 'set-up file',
  variable: 'variable',
  flag: 'flag',
  hand: 'set by hand',
}

/** What settings are of, in words. */
const ofWord: Record<string, string> = {
  service: 'the service',
  retention: 'how long finished jobs are kept',
  triage: 'how errors are told apart',
  queues: 'any queue',
  tasks: 'any task',
}

/** InForce lists all settings in force, by what they are of, each with where it comes from. */
export function InForce() {
  const { data, error } = useSettings()
  const by = new Map<string, Setting[]>()
  for (const s of data ?? []) by.set(s.of, [...(by.get(s.of) ?? []), s])
  return (
    <section aria-label="In force" className="mt-8">
      <div className="border-b border-hairline pb-2">
        <h2 className="text-lg font-semibold">In force</h2>
        <p className="max-w-[80ch]">
          {data ? answer(data) : error ? `The settings could not be read: ${error.message}.` : 'Reading the settings …'}
        </p>
      </div>
      {[...by].map(([of, settings]) => (
        <div key={of} className="grid grid-cols-[minmax(0,12rem)_minmax(0,1fr)] gap-x-4 border-b border-hairline py-1.5 max-sm:grid-cols-1">
          <h3 className="break-words text-quiet">
            <Of of={of} />
          </h3>
          <dl>
            {settings.map((s) => (
              <div key={s.name} className="flex flex-wrap items-baseline gap-x-4">
                <dt className="w-40 shrink-0">{s.name}</dt>
                <dd className="min-w-0 flex-1 font-mono text-[13px] break-all">
                  <bdi>{typeof s.value === 'string' ? s.value : JSON.stringify(s.value)}</bdi>
                </dd>
                <dd className={`text-right ${s.from === 'built_in' ? 'text-quiet' : ''}`}>
                  {fromWord[s.from]}
                  {s.where && `, ${s.where}`}
                </dd>
              </div>
            ))}
          </dl>
        </div>
      ))}
    </section>
  )
}

function Of({ of }: { of: string }) {
  const [kind, name] = /^(queue|task) (.*)$/.exec(of)?.slice(1) ?? []
  if (kind && name) {
    return (
      <>
        {kind}{' '}
        <Link className="press" to={`/${kind === 'queue' ? 'queues' : 'settings'}/${encodeURIComponent(name)}`}>
          <bdi>{name}</bdi>
        </Link>
      </>
    )
  }
  return <bdi>{ofWord[of] ?? of}</bdi>
}

function answer(all: Setting[]): string {
  const n = (from: Setting['from']) => all.filter((s) => s.from === from).length
  const parts = [
    [n('file'), 'from a set-up file'],
    [n('flag') + n('variable'), 'from flags and variables'],
    [n('hand'), 'set by hand'],
    [n('built_in'), 'built in'],
  ] as const
  const said = parts.filter(([k]) => k > 0).map(([k, words]) => `${k} ${words}`)
  return `${all.length} settings: ${said.join(', ')}.`
}
