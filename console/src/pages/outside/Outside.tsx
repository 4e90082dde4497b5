import type { ReactNode } from 'react'
import { Link, useNavigate } from 'react-router'

import { type EndpointStatus, type HookStatus, useStats } from '../../api/client'
import { factPath } from '../../lib/facts'
import { age, grouped, localTimes } from '../../lib/format'
import { besideOpen, tableHead, wholeTable } from '../../lib/layout'
import { useTitle } from '../../lib/title'
import { useNow } from '../../lib/useNow'
import { Copyable } from '../../parts/Copyable'
import { Heading } from '../../parts/Heading'
import { EndpointBeside } from './EndpointBeside'
import { HookBeside } from './HookBeside'
import { eventWords, proofWords, refused, standing } from './outsideWords'
import { useEndpoints, useHooks } from './queries'

/** Outside answers: which webhooks come in, who is told of ends, and whether either fails. */
export function Outside({ hook, endpoint }: { hook?: string; endpoint?: string }) {
  const hooks = useHooks()
  const endpoints = useEndpoints()
  const now = useNow(1000)
  const open = hook ?? endpoint
  useTitle(hook && `Hook ${hook}`, endpoint && `Endpoint ${endpoint}`, 'In and out')
  return (
    <div className={besideOpen(!!open)}>
      <div className={`min-w-0 ${open ? 'max-lg:hidden' : ''}`}>
        <Silent />
        <section aria-label="Hooks" className="mt-4">
          <Heading title="Hooks" list="/v1/hooks" empty={!hooks.data?.length}>
            {hooks.data
              ? ofHooks(hooks.data)
              : hooks.error
                ? `The hooks could not be read: ${hooks.error.message}.`
                : 'Reading the hooks …'}
          </Heading>
          {hooks.data && hooks.data.length > 0 && <HookRows all={hooks.data} open={hook} beside={!!open} now={now} />}
          {hooks.data?.length === 0 && (
            <Copyable command="hmule hook set pilots task=pilot.book proof.kind=standard proof.secrets=pilots" />
          )}
        </section>
        <section aria-label="Endpoints" className="mt-8">
          <Heading title="Endpoints" list="/v1/endpoints" empty={!endpoints.data?.length}>
            {endpoints.data
              ? ofEndpoints(endpoints.data)
              : endpoints.error
                ? `The endpoints could not be read: ${endpoints.error.message}.`
                : 'Reading the endpoints …'}
          </Heading>
          {endpoints.data && endpoints.data.length > 0 && <EndpointRows all={endpoints.data} open={endpoint} beside={!!open} now={now} />}
          {endpoints.data?.length === 0 && <Copyable command="hmule endpoint set press url=https://press.example/ends" />}
        </section>
      </div>
      {hook && <HookBeside key={hook} name={hook} h={hooks.data?.find((h) => h.name === hook)} known={!!hooks.data} now={now} />}
      {endpoint && (
        <EndpointBeside
          key={endpoint}
          name={endpoint}
          e={endpoints.data?.find((e) => e.name === endpoint)}
          known={!!endpoints.data}
          now={now}
        />
      )}
    </div>
  )
}

/** Silent tells of hosts that give no answer to calls. */
function Silent() {
  const facts = useStats().data?.facts.filter((f) => f.kind === 'silent') ?? []
  return facts.map((f) => (
    <p key={f.text} className="mt-4" title={f.detail && localTimes(f.detail)}>
      <span className="font-semibold">{localTimes(f.text)}</span>{' '}
      <Link className="press" to={factPath(f) ?? '/jobs'}>
        Open its jobs
      </Link>
    </p>
  ))
}

function ofHooks(all: HookStatus[]): string {
  if (all.length === 0) return 'There is no hook. A hook is an address at which a partner’s webhooks become jobs.'
  const broken = all.filter((h) => h.faults?.length)
  const taken = all.reduce((n, h) => n + h.counts.taken, 0)
  const parts = [
    `${grouped(taken)} ${taken === 1 ? 'delivery has' : 'deliveries have'} become jobs at ${all.length === 1 ? '1 hook' : `${grouped(all.length)} hooks`}.`,
  ]
  if (broken.length > 0) parts.push(`${broken.map((h) => h.name).join(', ')} ${broken.length === 1 ? 'refuses' : 'refuse'} every delivery.`)
  return parts.join(' ')
}

function ofEndpoints(all: EndpointStatus[]): string {
  if (all.length === 0) return 'There is no endpoint. An endpoint is somebody’s address, which is told how jobs end.'
  const named = (how: ReturnType<typeof standing>) =>
    all
      .filter((e) => standing(e) === how)
      .map((e) => e.name)
      .join(', ')
  const delivered = all.reduce((n, e) => n + e.delivered, 0)
  const parts = [
    `${grouped(delivered)} ${delivered === 1 ? 'message was' : 'messages were'} delivered to ${all.length === 1 ? '1 endpoint' : `${grouped(all.length)} endpoints`}.`,
  ]
  if (named('failing')) parts.push(`Taking none now: ${named('failing')}.`)
  if (named('paused')) parts.push(`Paused: ${named('paused')}.`)
  return parts.join(' ')
}

/** Row is one of a list, which opens beside it. */
function Row({ name, at, open, children }: { name: string; at: string; open: boolean; children: ReactNode }) {
  const navigate = useNavigate()
  const to = open ? '/outside' : at
  return (
    <tr
      className={`h-[36px] cursor-pointer border-b border-hairline whitespace-nowrap hover:bg-raised [&>td]:pr-5 ${open ? 'bg-raised' : ''}`}
      aria-current={open || undefined}
      data-name={name}
      onClick={() => void navigate(to)}
    >
      <td className="truncate" title={name}>
        <Link to={to} onClick={(e) => e.stopPropagation()} className={open ? 'font-semibold' : 'hover:underline'}>
          {name}
        </Link>
      </td>
      {children}
    </tr>
  )
}

/** Count is a number in a row; none is a dash. */
function Count({ of, loud, className = '' }: { of: number; loud?: boolean; className?: string }) {
  return (
    <td className={`text-right ${className} ${loud && of > 0 ? 'font-semibold' : ''}`}>
      {of > 0 ? grouped(of) : <span className="text-quiet">–</span>}
    </td>
  )
}

function HookRows({ all, open, beside, now }: { all: HookStatus[]; open?: string; beside: boolean; now: number }) {
  const narrow = beside ? 'max-2xl:hidden' : 'max-md:hidden'
  return (
    <table className={wholeTable}>
      <thead className="text-left text-[13px] text-quiet">
        <tr className={tableHead}>
          <th className="w-[22%]">hook</th>
          <th>task</th>
          <th className={`w-44 ${narrow}`}>proof of the sender</th>
          <th className="w-24 text-right">taken</th>
          <th className={`w-28 text-right ${narrow}`}>came again</th>
          <th className="w-24 text-right">refused</th>
          <th className="w-24 text-right">last</th>
        </tr>
      </thead>
      <tbody>
        {all.map((h) => (
          <Row key={h.name} name={h.name} at={`/outside/hooks/${h.name}`} open={h.name === open}>
            <td className={`truncate ${h.faults?.length ? 'font-semibold' : ''}`} title={h.faults?.join(', ') ?? h.task}>
              {h.faults?.length ? 'refuses every delivery' : h.task}
            </td>
            <td className={`truncate ${narrow}`}>{proofWords(h.proof)}</td>
            <Count of={h.counts.taken} />
            <Count of={h.counts.repeated} className={narrow} />
            <Count of={refused(h)} loud />
            <td className="text-right text-quiet">{h.counts.last_at ? age(h.counts.last_at, now) : 'never'}</td>
          </Row>
        ))}
      </tbody>
    </table>
  )
}

function EndpointRows({ all, open, beside, now }: { all: EndpointStatus[]; open?: string; beside: boolean; now: number }) {
  const narrow = beside ? 'max-2xl:hidden' : 'max-md:hidden'
  return (
    <table className={wholeTable}>
      <thead className="text-left text-[13px] text-quiet">
        <tr className={tableHead}>
          <th className="w-[22%]">endpoint</th>
          <th>address</th>
          <th className={`w-72 ${narrow}`}>is told</th>
          <th className="w-24 text-right">delivered</th>
          <th className="w-24 text-right">failed</th>
          <th className="w-24 text-right">last</th>
        </tr>
      </thead>
      <tbody>
        {all.map((e) => (
          <Row key={e.name} name={e.name} at={`/outside/endpoints/${e.name}`} open={e.name === open}>
            <td className={`truncate ${standing(e) === 'fine' ? '' : 'font-semibold'}`} title={e.url}>
              {standing(e) === 'paused' ? 'paused' : standing(e) === 'failing' ? 'takes no message' : e.url}
            </td>
            <td className={`truncate ${narrow}`} title={eventWords(e).join('; ')}>
              {eventWords(e).join('; ') || <span className="text-quiet">of jobs that name it</span>}
            </td>
            <Count of={e.delivered} />
            <Count of={e.failed} loud />
            <td className="text-right text-quiet">{e.last_at ? age(e.last_at, now) : 'never'}</td>
          </Row>
        ))}
      </tbody>
    </table>
  )
}
