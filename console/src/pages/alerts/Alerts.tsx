import { Link, useNavigate } from 'react-router'

import { newKey } from '../../api/access'
import { type Alert, type AlertSetup, api, told, useMayAct } from '../../api/client'
import { age, localTimes, moment } from '../../lib/format'
import { besideOpen, tableHead, wholeTable } from '../../lib/layout'
import { useTitle } from '../../lib/title'
import { useNow } from '../../lib/useNow'
import { Copyable } from '../../parts/Copyable'
import { Heading } from '../../parts/Heading'
import { Question } from '../../parts/Question'
import { AlertBeside } from './AlertBeside'
import { ofAlerts, standing, wayOf } from './alertWords'
import { useAlertSetup, useAlerts } from './queries'

/** Alerts answers: what is wrong, who is on it, and who would be told? */
export function Alerts({ open }: { open?: string }) {
  const alerts = useAlerts()
  const setup = useAlertSetup()
  const now = useNow(1000)
  useTitle(open && `Alert ${open}`, 'Alerts')
  const current = alerts.data?.filter((a) => a.state !== 'over') ?? []
  const over = alerts.data?.filter((a) => a.state === 'over') ?? []
  return (
    <div className={besideOpen(!!open)}>
      <div className={`min-w-0 ${open ? 'max-lg:hidden' : ''}`}>
        <section aria-label="Alerts" className="mt-4">
          <Heading title="Alerts" list="/v1/alerts" empty={!alerts.data?.length}>
            {alerts.data
              ? ofAlerts(alerts.data)
              : alerts.error
                ? `The alerts could not be read: ${alerts.error.message}.`
                : 'Reading the alerts …'}
          </Heading>
          {current.length > 0 && <Rows all={current} open={open} beside={!!open} now={now} />}
        </section>
        {over.length > 0 && (
          <section aria-label="Alerts that are over" className="mt-8">
            <h3 className={title}>Over</h3>
            <Rows all={over} open={open} beside={!!open} now={now} />
          </section>
        )}
        {setup.data && <Rules setup={setup.data} beside={!!open} />}
      </div>
      {open && (
        <AlertBeside
          key={open}
          id={open}
          a={alerts.data?.find((a) => String(a.id) === open)}
          setup={setup.data}
          known={!!alerts.data}
          now={now}
        />
      )}
    </div>
  )
}

const title = 'border-b border-hairline pb-1 font-semibold'

function Rows({ all, open, beside, now }: { all: Alert[]; open?: string; beside: boolean; now: number }) {
  const navigate = useNavigate()
  const narrow = beside ? 'max-2xl:hidden' : 'max-md:hidden'
  return (
    <table className={wholeTable}>
      <thead className="text-left text-[13px] text-quiet">
        <tr className={tableHead}>
          <th>what is wrong</th>
          <th className="w-24">severity</th>
          <th className={`w-48 ${narrow}`}>state</th>
          <th className="w-28 text-right">{all[0]?.over_at ? 'over' : 'since'}</th>
        </tr>
      </thead>
      <tbody>
        {all.map((a) => {
          const shown = String(a.id) === open
          const to = shown ? '/alerts' : `/alerts/${a.id}`
          return (
            <tr
              key={a.id || a.rule}
              className={`h-[36px] cursor-pointer border-b border-hairline whitespace-nowrap hover:bg-raised [&>td]:pr-5 ${shown ? 'bg-raised' : ''}`}
              aria-current={shown || undefined}
              data-alert={a.id}
              onClick={() => void navigate(to)}
            >
              <td className={`truncate ${a.state === 'open' ? 'font-semibold' : ''}`} title={localTimes(a.text)}>
                <Link to={to} onClick={(e) => e.stopPropagation()} className="hover:underline">
                  {localTimes(a.text)}
                </Link>
              </td>
              <td className={a.severity === 'critical' && !a.over_at ? 'font-semibold text-dead' : 'text-quiet'}>{a.severity}</td>
              <td className={`truncate ${narrow}`} title={a.note ?? standing(a)}>
                {standing(a)}
              </td>
              <td className="text-right text-quiet" title={moment(a.over_at ?? a.since)}>
                {age(a.over_at ?? a.since, now)}
              </td>
            </tr>
          )
        })}
      </tbody>
    </table>
  )
}

/** Rules tells when there is an alert, and who is told. */
function Rules({ setup, beside }: { setup: AlertSetup; beside: boolean }) {
  const may = useMayAct()
  const channels = Object.entries(setup.channels)
  const told = (tell?: string[]) => tell?.join(', ') ?? ''
  return (
    <section aria-label="Rules" className="mt-8">
      <div className="flex items-baseline gap-4 border-b border-hairline pb-1">
        <h3 className="font-semibold">Rules</h3>
        <p className="min-w-0 flex-1 truncate text-quiet">
          {setup.off
            ? 'The set-up has switched all alerts off.'
            : channels.length === 0
              ? 'There is no channel: nobody is told but by this page and hmule alert list.'
              : channels.map(([name, ch]) => `${name} is ${wayOf(ch)}`).join('; ') + '.'}
        </p>
        {may && channels.length > 0 && <Test n={channels.length} />}
      </div>
      {channels.length === 0 && !setup.off && <Copyable command="hmule setup schema" />}
      {setup.rules.length > 0 && (
        <table className={wholeTable}>
          <thead className="text-left text-[13px] text-quiet">
            <tr className={tableHead}>
              <th>there is an alert when</th>
              <th className="w-24">severity</th>
              <th className={`w-48 ${beside ? 'max-2xl:hidden' : 'max-md:hidden'}`}>told</th>
              <th className="w-28 text-right">open</th>
            </tr>
          </thead>
          <tbody>
            {setup.rules.map((r) => (
              <tr key={r.name} className="h-[32px] border-b border-hairline whitespace-nowrap [&>td]:pr-5" data-rule={r.name}>
                <td className={`truncate ${r.off ? 'text-quiet line-through' : ''}`} title={`${r.name}: ${r.says}`}>
                  {r.says}
                </td>
                <td className="text-quiet">{r.severity}</td>
                <td className={`truncate text-quiet ${beside ? 'max-2xl:hidden' : 'max-md:hidden'}`} title={told(r.tell)}>
                  {r.off ? 'switched off' : told(r.tell) || 'nobody'}
                </td>
                <td className="text-right">{r.open > 0 ? r.open : <span className="text-quiet">–</span>}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  )
}

function Test({ n }: { n: number }) {
  return (
    <Question
      title="Send a test"
      follows={`Each channel gets a message that says that it is a test. ${n === 1 ? 'That is a job, which' : 'Each is a job, which'} can be watched.`}
      confirm={n === 1 ? 'Send 1 message' : `Send ${n} messages`}
      command="hmule alert test"
      send={() => told(api.POST('/v1/alerts/test', { params: { header: { 'Idempotency-Key': newKey() } }, body: {} }))}
      done={(answer) => {
        const jobs = Object.values((answer as { jobs: Record<string, number> }).jobs)
        return { text: jobs.length === 1 ? `Sent as job ${jobs[0]}.` : `Sent as ${jobs.length} jobs.`, to: `/jobs/${jobs[0]}` }
      }}
    />
  )
}
