import { useSearchParams } from 'react-router'

import { type MarkAt, type Subject, useFollows, useMarks, useSpanOf, useStats, useTasks } from '../../api/client'
import { grouped, moment, span } from '../../lib/format'
import { type Interval, intervalOf } from '../../lib/interval'
import { pill } from '../../lib/pill'
import { useTitle } from '../../lib/title'
import { useNow } from '../../lib/useNow'

const hour = 3_600_000

/** The lengths of the spans that are compared. */
const lengths: Record<string, number> = { '30 min': hour / 2, '1 h': hour, '6 h': 6 * hour, '1 day': 24 * hour, '7 days': 168 * hour }

interface Spans {
  /** a is the earlier one. */
  a: Interval
  b: Interval
  /** at is what parts them, where something does. */
  at?: number
}

const iso = (ms: number) => new Date(ms).toISOString()

/** around gives the spans before and after a moment. */
function around(at: number, length: number, now: number): Spans {
  const minute = 60_000
  const from = Math.floor(at / minute) * minute
  return { a: [iso(from - length), iso(from)], b: [iso(from), iso(Math.min(from + length, Math.floor(now / minute) * minute))], at }
}

/** Compare answers: did my change help? It shows the figures of two spans of time side by side. */
export function Compare() {
  const [params, setParams] = useSearchParams()
  const marks = useMarks().data ?? []
  const now = useNow(60_000)
  const of = params.get('of') ?? ''
  const length = lengths[params.get('length') ?? ''] ?? hour
  const chosen = params.get('at')
  const deploy = marks.find((m) => m.kind === 'deploy') ?? marks[0]
  const at = chosen ? Date.parse(chosen) : deploy ? Date.parse(deploy.at) : now - hour
  const spans = spansIn(params) ?? around(at, length, now)
  const set = (change: Record<string, string | undefined>) => {
    const next = new URLSearchParams(location.search) // which knows of a choice that was made a moment ago
    for (const [name, value] of Object.entries(change)) {
      if (value) next.set(name, value)
      else next.delete(name)
    }
    next.delete('a')
    next.delete('b')
    setParams(next, { replace: true })
  }
  useTitle('Compare')
  const mark = marks.find((m) => Date.parse(m.at) === at)
  return (
    <section aria-label="Compare" className="mt-4">
      <h2 className="text-lg font-semibold">Did it help?</h2>
      <div className="flex flex-wrap items-center gap-x-3 gap-y-2 py-2">
        <Of value={of} set={(v) => set({ of: v })} />
        <select
          aria-label="What happened in between"
          className={`${pill} max-w-[24rem] border-hairline bg-ground`}
          value={mark ? mark.at : ''}
          onChange={(e) => set({ at: e.target.value })}
        >
          {!mark && <option value="">before and after {moment(iso(at))}</option>}
          {marks.map((m) => (
            <option key={m.at + m.text} value={m.at}>
              {markWords(m)}
            </option>
          ))}
        </select>
        <select
          aria-label="How long before and after"
          className={`${pill} border-hairline bg-ground`}
          value={Object.keys(lengths).find((l) => lengths[l] === length)}
          onChange={(e) => set({ length: e.target.value })}
        >
          {Object.keys(lengths).map((l) => (
            <option key={l} value={l}>
              {l} before and after
            </option>
          ))}
        </select>
      </div>
      <Figures of={of} spans={spans} />
    </section>
  )
}

/** spansIn reads two spans that stand in the address. */
function spansIn(params: URLSearchParams): Spans | undefined {
  const [a, b] = [intervalOf(params.get('a')), intervalOf(params.get('b'))]
  return a && b ? { a, b } : undefined
}

function markWords(m: MarkAt): string {
  return `${m.kind === 'deploy' ? m.text.replace('version ', '') + ' deployed' : m.text}, ${moment(m.at).replace(/:\d\d$/, '')}`
}

/** Of chooses what the figures are of. */
function Of({ value, set }: { value: Subject; set: (v: Subject) => void }) {
  const queues = useStats().data?.queues.map((q) => q.name) ?? []
  const tasks = useTasks().data?.map((t) => t.name) ?? []
  const follows = useFollows().data?.map((f) => f.name) ?? []
  const all: [string, string[]][] = [
    ['queue', queues],
    ['task', tasks],
    ['follow', follows],
  ]
  return (
    <select aria-label="Of what" className={`${pill} border-hairline bg-ground`} value={value} onChange={(e) => set(e.target.value)}>
      <option value="">everything</option>
      {all.map(([kind, names]) => (
        <optgroup key={kind} label={kind === 'follow' ? 'followed labels' : `${kind}s`}>
          {names.map((name) => (
            <option key={name} value={`${kind}:${name}`}>
              {kind === 'follow' ? 'label' : kind} {name}
            </option>
          ))}
        </optgroup>
      ))}
    </select>
  )
}

type Sum = NonNullable<ReturnType<typeof useSpanOf>['data']>

interface Measure {
  name: string
  /** of gives the figure; undefined where nothing tells it. */
  of: (s: Sum, minutes: number) => number | undefined
  write: (n: number) => string
  /** better tells which way is better: more, less, or neither. */
  better: 'more' | 'less' | ''
}

const perMinute = (n: number) => `${n >= 100 ? grouped(Math.round(n)) : n.toFixed(1)} a minute`
const share = (n: number) => `${(100 * n).toFixed(n < 0.1 ? 1 : 0)} %`

const measures: Measure[] = [
  { name: 'came', of: (s, m) => (s.enqueued + s.requeued) / m, write: perMinute, better: '' },
  { name: 'done', of: (s, m) => s.done / m, write: perMinute, better: 'more' },
  { name: 'attempts that failed', of: (s) => (s.started > 0 ? s.failed / s.started : undefined), write: share, better: 'less' },
  { name: 'jobs that died', of: (s) => (s.done + s.dead > 0 ? s.dead / (s.done + s.dead) : undefined), write: share, better: 'less' },
  { name: 'wait, half within', of: (s) => s.wait?.p50_ms, write: span, better: 'less' },
  { name: 'wait, 19 of 20 within', of: (s) => s.wait?.p95_ms, write: span, better: 'less' },
  { name: 'run, half within', of: (s) => s.run?.p50_ms, write: span, better: 'less' },
  { name: 'run, 19 of 20 within', of: (s) => s.run?.p95_ms, write: span, better: 'less' },
]

/** From which change on it is called one, as a part of what was. */
const noticed = 0.05

/** Below so many attempts a change may be chance. */
const fewest = 30

function Figures({ of, spans }: { of: Subject; spans: Spans }) {
  const [a, b] = [useSpanOf(of, ...spans.a), useSpanOf(of, ...spans.b)]
  const error = a.error ?? b.error
  if (error) return <p role="alert">The figures could not be read: {error.message}.</p>
  if (spans.b[0] >= spans.b[1]) return <p>Nothing is known yet of the time after it.</p>
  if (!a.data || !b.data) return <p className="text-quiet">Reading the figures …</p>
  const minutes = (s: [string, string]) => Math.max((Date.parse(s[1]) - Date.parse(s[0])) / 60_000, 1)
  const rows = measures.map((m) => ({ m, was: m.of(a.data, minutes(spans.a)), is: m.of(b.data, minutes(spans.b)) }))
  return (
    <>
      <p className="max-w-[80ch] pb-2 text-base">{sentence(rows, a.data, b.data)}</p>
      <table className="w-full max-w-[60rem] border-collapse">
        <thead className="text-left text-[13px] text-quiet">
          <tr className="h-[32px] border-b border-hairline [&>th]:pr-5 [&>th]:font-normal max-sm:[&>th]:pr-3">
            <th>figure</th>
            <th className="text-right">{words(spans.a)}</th>
            <th className="text-right">{words(spans.b)}</th>
            <th className="text-right sm:w-56">change</th>
          </tr>
        </thead>
        <tbody>
          {rows.map(({ m, was, is }) => (
            <tr key={m.name} className="h-[32px] border-b border-hairline [&>td]:pr-5 max-sm:[&>td]:pr-3" data-figure={m.name}>
              <td>{m.name}</td>
              <td className="text-right whitespace-nowrap">{was === undefined ? <Unknown /> : m.write(was)}</td>
              <td className="text-right whitespace-nowrap">{is === undefined ? <Unknown /> : m.write(is)}</td>
              <td className="text-right">
                <Change m={m} was={was} is={is} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="py-2 text-[13px] text-quiet">
        {grouped(a.data.started)} attempts were started before and {grouped(b.data.started)} after. Below {fewest} a change may be chance.
      </p>
    </>
  )
}

function Unknown() {
  return <span className="text-quiet">–</span>
}

function words([from, to]: [string, string]): string {
  return `${moment(from).replace(/:\d\d$/, '')} to ${moment(to).replace(/:\d\d$/, '')}`
}

/** verdict says which way a figure has gone: better, worse, or only otherwise. */
function verdict(m: Measure, was?: number, is?: number): 'better' | 'worse' | '' {
  if (was === undefined || is === undefined || m.better === '' || Math.abs(is - was) <= noticed * Math.max(was, 1e-9)) return ''
  return is > was === (m.better === 'more') ? 'better' : 'worse'
}

function Change({ m, was, is }: { m: Measure; was?: number; is?: number }) {
  if (was === undefined || is === undefined) return <Unknown />
  if (was === 0 && is === 0) return <span className="text-quiet">none</span>
  const by = was === 0 ? 'from nothing' : `${is >= was ? '+' : '−'}${Math.abs((100 * (is - was)) / was).toFixed(0)} %`
  const v = verdict(m, was, is)
  return (
    <span className={v === 'worse' ? 'font-semibold' : v === 'better' ? '' : 'text-quiet'}>
      {by}
      {v && `, ${v}`}
    </span>
  )
}

/** sentence says what has become better and what worse. */
function sentence(rows: { m: Measure; was?: number; is?: number }[], a: Sum, b: Sum): string {
  if (a.started === 0 || b.started === 0) return 'Nothing ran in one of the two, so that nothing can be compared.'
  const of = (v: 'better' | 'worse') => rows.filter((r) => verdict(r.m, r.was, r.is) === v).map((r) => r.m.name)
  const [better, worse] = [of('better'), of('worse')]
  const few =
    Math.min(a.started, b.started) < fewest ? `Only ${grouped(Math.min(a.started, b.started))} attempts tell of one of the two. ` : ''
  if (better.length + worse.length === 0) return few + 'No figure has changed by more than 5 %.'
  const parts = []
  if (worse.length > 0) parts.push(`Worse: ${worse.join('; ')}.`)
  if (better.length > 0) parts.push(`Better: ${better.join('; ')}.`)
  return few + parts.join(' ')
}
