import { useState } from 'react'
import { Link } from 'react-router'

import { newKey } from '../../api/access'
import { type Alert, type AlertSetup, api, told, useMayAct } from '../../api/client'
import { factPath } from '../../lib/facts'
import { localTimes, moment } from '../../lib/format'
import { quoted } from '../../lib/shell'
import { Beside, Fact, When } from '../../parts/Beside'
import { Copyable } from '../../parts/Copyable'
import { Question } from '../../parts/Question'
import { standing } from './alertWords'

/** AlertBeside tells of an alert since when, the likely reason, what to do, and who was told. */
export function AlertBeside({ id, a, setup, known, now }: { id: string; a?: Alert; setup?: AlertSetup; known: boolean; now: number }) {
  return (
    <Beside title={`Alert ${id}`} back="/alerts">
      {!a && <p className="py-4">{known ? `There is no alert ${id}; those that are over are kept for 30 days.` : 'Reading the alert …'}</p>}
      {a && <Known a={a} setup={setup} now={now} />}
    </Beside>
  )
}

function Known({ a, setup, now }: { a: Alert; setup?: AlertSetup; now: number }) {
  const may = useMayAct()
  const to = factPath(a)
  const rule = setup?.rules.find((r) => r.name === a.rule)
  return (
    <>
      <p className="py-3 text-base font-semibold">{localTimes(a.text)}</p>
      {a.detail && <p className="pb-3">{localTimes(a.detail)}</p>}
      {!a.over_at && (
        <div className="flex flex-wrap gap-3 pb-4">
          {to && a.act && (
            <Link className="button" to={to}>
              {a.act}
            </Link>
          )}
          {may && a.id > 0 && a.state !== 'seen' && <Seen a={a} />}
          {may && a.id > 0 && <Mute a={a} />}
        </div>
      )}
      <dl className="grid grid-cols-[max-content_minmax(0,1fr)] gap-x-4 gap-y-1">
        <Fact name="state">{standing(a)}</Fact>
        <Fact name="severity">{a.severity}</Fact>
        <When name="since" at={a.since} now={now} />
        <When name="over" at={a.over_at} now={now} />
        <Fact name="likely">{a.likely && localTimes(a.likely)}</Fact>
        <Fact name="to do">{!a.over_at && a.mend}</Fact>
        <When name="seen" at={a.seen_at} now={now} />
        <Fact name="by">{a.seen_by}</Fact>
        <Fact name="note">{a.note}</Fact>
        <Fact name="muted">{a.state === 'muted' && `until ${moment(a.muted_until ?? '')}, by ${a.muted_by}`}</Fact>
        <When name="told" at={a.told_at} now={now} />
        <Fact name="told">{!a.told_at && !a.over_at && `nobody yet. ${a.untold ?? 'A message goes out within a minute.'}`}</Fact>
        <When name="reminded" at={a.reminded_at} now={now} />
        <Fact name="rule">{rule ? `${a.rule}: ${rule.says}` : a.rule}</Fact>
        <Fact name="over when">{!a.over_at && endOf(a)}</Fact>
      </dl>
      {a.command && !a.over_at && (
        <div className="mt-6 text-quiet">
          From a terminal:
          <Copyable command={a.command} />
        </div>
      )}
    </>
  )
}

/** endOf says when an alert will be over. */
function endOf(a: Alert): string {
  if (a.kind === 'new_cause') return 'somebody has seen it, or none of its dead letters is left'
  return `it has been right for ${a.right_for}`
}

function Seen({ a }: { a: Alert }) {
  const [note, setNote] = useState('')
  const last = a.kind === 'new_cause'
  return (
    <Question
      title="I have seen it"
      follows={
        last
          ? 'The alert is over then; others see who has seen it. Its dead letters stay.'
          : 'Others see that you are on it. The alert stays until it is right again, and a reminder is sent each day.'
      }
      confirm="Note 1 alert as seen"
      command={`hmule alert seen ${a.id}${note ? ` --note ${quoted(note)}` : ''}`}
      send={() =>
        told(api.POST('/v1/alerts/{id}/see', { params: { path: { id: a.id }, header: { 'Idempotency-Key': newKey() } }, body: { note } }))
      }
      done={() => ({ text: last ? `Seen and over: alert ${a.id}.` : `Seen: alert ${a.id}.` })}
    >
      <label className="block">
        What others should know
        <input className="field mt-1 w-full" value={note} maxLength={1000} onChange={(e) => setNote(e.target.value)} />
      </label>
    </Question>
  )
}

const spans = { '1h': '1 hour', '4h': '4 hours', '1d': '1 day', '7d': '7 days' }

function Mute({ a }: { a: Alert }) {
  const [span, setSpan] = useState('4h')
  const ends = a.state === 'muted'
  return (
    <Question
      title={ends ? 'Unmute' : 'Mute'}
      follows={
        ends ? 'Somebody is told of it again, as its rule says.' : 'Nobody is told of it, not even when it is over. It stays in this list.'
      }
      confirm={ends ? 'Unmute 1 alert' : 'Mute 1 alert'}
      command={`hmule alert mute ${a.id} --for ${ends ? '0s' : span}`}
      send={() =>
        told(
          api.POST('/v1/alerts/{id}/mute', {
            params: { path: { id: a.id }, header: { 'Idempotency-Key': newKey() } },
            body: { for: ends ? '0s' : span },
          }),
        )
      }
      done={() => ({ text: ends ? `Unmuted: alert ${a.id}.` : `Muted: alert ${a.id}.` })}
    >
      {!ends && (
        <label className="block">
          For how long
          <select className="field mt-1 block" value={span} onChange={(e) => setSpan(e.target.value)}>
            {Object.entries(spans).map(([value, says]) => (
              <option key={value} value={value}>
                {says}
              </option>
            ))}
          </select>
        </label>
      )}
    </Question>
  )
}
