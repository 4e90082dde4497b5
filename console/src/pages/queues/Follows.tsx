import { useState } from 'react'
import { Link } from 'react-router'

import { newKey } from '../../api/access'
import { type Follow, api, pairOf, pairText, told, useFollows, useHistory, useMayAct } from '../../api/client'
import { search } from '../../lib/address'
import { grouped } from '../../lib/format'
import { quoted } from '../../lib/shell'
import { Question } from '../../parts/Question'
import { Export } from '../../parts/Heading'
import { Spark } from '../../parts/Spark'

/** Follows lists the labels that are followed, side by side: their jobs by state, and what moved among them over the last hour. */
export function Follows() {
  const { data } = useFollows()
  const history = useHistory('hour', 'follow').data
  const may = useMayAct()
  if (!data || (data.length === 0 && !may)) return null
  return (
    <section aria-label="Followed labels" className="mt-8">
      <div className="flex flex-wrap items-baseline gap-4 border-b border-hairline pb-2">
        <h2 className="text-lg font-semibold">Followed labels</h2>
        <p className="min-w-0 flex-1 text-quiet max-sm:order-last max-sm:basis-full">
          {data.length === 0
            ? 'No label is followed. Follow a customer or a ship to see its jobs by themselves.'
            : 'Their jobs, and what moved among them.'}
        </p>
        {data.length > 0 && <Export list="/v1/follow" what="followed labels" />}
        {may && <FollowLabel />}
      </div>
      {data.length > 0 && (
        <table className="w-full border-collapse">
          <thead className="text-left text-[13px] text-quiet">
            <tr className="h-[32px] border-b border-hairline whitespace-nowrap [&>th]:pr-5 [&>th]:font-normal">
              <th>name</th>
              <th className="max-sm:hidden">label</th>
              <th className="text-right">waiting</th>
              <th className="text-right max-sm:hidden">running</th>
              <th className="text-right max-sm:hidden">done</th>
              <th className="text-right">dead</th>
              <th className="text-right max-md:hidden">failed, last hour</th>
              <th className="max-md:hidden">last hour, in over out</th>
              <th className="w-full max-sm:hidden" />
            </tr>
          </thead>
          <tbody>
            {data.map((f) => (
              <Row key={f.name} f={f} series={history?.series.find((s) => s.name === f.name)} may={may} />
            ))}
          </tbody>
        </table>
      )}
    </section>
  )
}

type Series = NonNullable<ReturnType<typeof useHistory>['data']>['series'][number]

function Row({ f, series, may }: { f: Follow; series?: Series; may: boolean }) {
  const n = f.counts
  const jobs = (state?: string) => '/jobs' + search({ label: f.label, state })
  const count = (k: number, state: string, wide?: boolean) => (
    <td className={`text-right ${wide ? 'max-sm:hidden' : ''}`}>
      {k > 0 ? (
        <Link className="press" to={jobs(state)}>
          {grouped(k)}
        </Link>
      ) : (
        <span className="text-quiet">–</span>
      )}
    </td>
  )
  const p = series?.points
  const attempts = series?.sum.started ?? 0
  return (
    <tr className="h-[32px] border-b border-hairline whitespace-nowrap [&>td]:pr-5" data-follow={f.name}>
      <td className="max-w-56 truncate max-sm:max-w-24" title={f.name}>
        <Link className="press" to={jobs()}>
          <bdi>{f.name}</bdi>
        </Link>
      </td>
      <td className="max-w-56 truncate text-quiet max-sm:hidden" title={f.label}>
        <bdi>{f.label}</bdi>
        {f.counting && ', counting'}
      </td>
      {count(n.held + n.scheduled + n.ready + n.backoff, 'held,scheduled,ready,backoff')}
      {count(n.running, 'running', true)}
      {count(n.done, 'done', true)}
      {count(n.dead, 'dead')}
      <td className="text-right max-md:hidden">{attempts > 0 ? `${grouped(series!.sum.failed)} of ${grouped(attempts)}` : ''}</td>
      <td className="max-md:hidden">
        <Spark
          label={`Jobs of ${f.name} that came and finished over the last hour`}
          lines={
            p
              ? [
                  { values: p.done.slice(0, -1), ink: 'stroke-done' },
                  { values: p.enqueued.slice(0, -1), ink: 'stroke-ink' },
                ]
              : []
          }
        />
      </td>
      <td className="max-sm:hidden">
        <span className="flex items-center gap-4">
          <Link className="press" to={`/compare?of=follow:${encodeURIComponent(f.name)}`}>
            Compare
          </Link>
          {may && <Unfollow f={f} />}
        </span>
      </td>
    </tr>
  )
}

function FollowLabel() {
  const [label, setLabel] = useState('')
  const [name, setName] = useState('')
  const [of, is] = pairOf(label.trim())
  const called = name.trim() || is.replaceAll(/[^\w.-]+/g, '-')
  const wrong = of && is ? undefined : 'A label is written name:value, such as customer:acme.'
  return (
    <Question
      title="Follow a label"
      follows="Its jobs are counted by their states, those that are there too; what moves among them is kept from now on. It can be ended at any time."
      confirm="Follow 1 label"
      command={`hmule follow set ${quoted(called || 'acme')} ${quoted(wrong ? 'customer=acme' : pairText(of, is).replace(':', '='))}`}
      blocked={!!wrong || !called}
      send={() =>
        told(
          api.PUT('/v1/follow/{name}', {
            params: { path: { name: called }, header: { 'Idempotency-Key': newKey() } },
            body: { label: pairText(of, is) },
          }),
        )
      }
      done={() => ({ text: `${of}:${is} is followed as ${called}.` })}
    >
      <div className="grid grid-cols-[max-content_minmax(0,1fr)] items-baseline gap-x-4 gap-y-1.5">
        <label className="contents">
          <span className="text-quiet">label</span>
          <input
            className="field placeholder:text-quiet"
            name="label"
            placeholder="customer:acme"
            value={label}
            onChange={(e) => setLabel(e.target.value)}
          />
        </label>
        <label className="contents">
          <span className="text-quiet">name</span>
          <input
            className="field placeholder:text-quiet"
            name="name"
            placeholder={called || 'acme'}
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
        </label>
      </div>
      {label && wrong && <p role="alert">{wrong}</p>}
    </Question>
  )
}

function Unfollow({ f }: { f: Follow }) {
  return (
    <Question
      title="End"
      follows={`${f.label} is no longer followed as ${f.name}. Its jobs stay. If it is followed again, its jobs are counted anew.`}
      confirm="Follow 1 label no longer"
      command={`hmule follow delete ${quoted(f.name)}`}
      send={async () => {
        const { error } = await api.DELETE('/v1/follow/{name}', {
          params: { path: { name: f.name }, header: { 'Idempotency-Key': newKey() } },
        })
        if (error) throw new Error(error.detail)
      }}
    />
  )
}
