import { Link } from 'react-router'

import { newKey } from '../../api/access'
import { type EndpointStatus, api, told, useMayAct } from '../../api/client'
import { search } from '../../lib/address'
import { grouped, localTimes } from '../../lib/format'
import { Beside, Fact, When } from '../../parts/Beside'
import { Question } from '../../parts/Question'
import { eventWords, setBy } from './outsideWords'

/** EndpointBeside tells what an endpoint is told, and how it takes that. */
export function EndpointBeside({ name, e, known, now }: { name: string; e?: EndpointStatus; known: boolean; now: number }) {
  return (
    <Beside title={name} back="/outside">
      {!e && <p className="py-4">{known ? `There is no endpoint ${name}.` : 'Reading the endpoint …'}</p>}
      {e && <Known e={e} now={now} />}
    </Beside>
  )
}

function Known({ e, now }: { e: EndpointStatus; now: number }) {
  const may = useMayAct()
  return (
    <>
      <p className="py-3 text-base">
        Messages are posted to <code className="font-mono text-[13px] break-all">{e.url}</code>.
      </p>
      {may && (
        <div className="flex flex-wrap gap-3 pb-4">
          <Deed e={e} verb={e.paused_at ? 'resume' : 'pause'} />
          {!e.paused_at && <Deed e={e} verb="test" />}
        </div>
      )}
      <dl className="grid grid-cols-[max-content_minmax(0,1fr)] gap-x-4 gap-y-1">
        {e.paused_at && (
          <>
            <When name="paused" at={e.paused_at} now={now} />
            <Fact name="by">{e.paused_by}</Fact>
            <Fact name="why">{e.paused_why && localTimes(e.paused_why)}</Fact>
            <Fact name="not sent since">{grouped(e.missed)}</Fact>
          </>
        )}
        <When name="takes none since" at={e.failing_since} now={now} />
        <Fact name="is told">
          {e.events ? (
            <ul>
              {eventWords(e).map((text) => (
                <li key={text}>{text}</li>
              ))}
            </ul>
          ) : (
            'of jobs that name it'
          )}
        </Fact>
        <Fact name="signed">{e.secret ? `as Standard Webhooks has it, by secret ${e.secret}` : 'no'}</Fact>
        <Fact name="delivered">
          <Link className="press" to={'/jobs' + search({ queue: 'notices', label: `endpoint=${e.name}` })}>
            {grouped(e.delivered)}
          </Link>
        </Fact>
        <Fact name="failed">
          {e.failed > 0 && (
            <Link className="press" to={'/jobs' + search({ queue: 'notices', label: `endpoint=${e.name}`, state: 'dead' })}>
              {grouped(e.failed)}
            </Link>
          )}
        </Fact>
        <When name="last" at={e.last_at} now={now} />
        <Fact name="note">{e.note}</Fact>
        <Fact name="set by">{setBy[e.defined_by]}</Fact>
      </dl>
    </>
  )
}

const deeds = {
  pause: {
    title: 'Pause',
    confirm: 'Pause 1 endpoint',
    follows: 'No more messages are made for it. Those that are on their way go on. What ends meanwhile is counted, and not told later.',
  },
  resume: {
    title: 'Resume',
    confirm: 'Resume 1 endpoint',
    follows: 'It is told from now on. What ended meanwhile is not told.',
  },
  test: {
    title: 'Send a test',
    confirm: 'Send 1 message',
    follows: 'It gets a message that says that it is a test. That is a job, which can be watched.',
  },
}

function Deed({ e, verb }: { e: EndpointStatus; verb: keyof typeof deeds }) {
  const init = { params: { path: { name: e.name }, header: { 'Idempotency-Key': newKey() } }, body: {} }
  const send = {
    pause: () => told(api.POST('/v1/endpoints/{name}/pause', init)),
    resume: () => told(api.POST('/v1/endpoints/{name}/resume', init)),
    test: () => told(api.POST('/v1/endpoints/{name}/test', init)),
  }
  return (
    <Question
      {...deeds[verb]}
      command={`hmule endpoint ${verb} ${e.name}`}
      send={async () => await send[verb]()}
      done={(answer) => {
        if (verb !== 'test') return { text: `${deeds[verb].title}d: endpoint ${e.name}.` }
        const made = (answer as { job: number }).job
        return { text: `Sent as job ${made}.`, to: `/jobs/${made}` }
      }}
    />
  )
}
