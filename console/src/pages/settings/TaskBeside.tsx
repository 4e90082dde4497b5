import { useState } from 'react'

import { search, useFilter } from '../../lib/address'
import { type Defaults, type Task, api, told, useMayAct } from '../../api/client'
import { Backoff } from '../../parts/Backoff'
import { Beside, FromFile } from '../../parts/Beside'
import { type Entered, entered, read } from '../../parts/defaults'
import { DefaultsForm } from '../../parts/DefaultsForm'
import { Question } from '../../parts/Question'
import { useUnsaved } from '../../lib/unsaved'
import { quoted } from '../../lib/shell'

/** TaskBeside shows what the jobs of a task get, with what it makes of their retries, and changes it. */
export function TaskBeside({ name, t, known }: { name: string; t?: Task; known: boolean }) {
  const filter = useFilter()
  return (
    <Beside title={name} back={'/settings' + search(filter)}>
      {!t && (
        <p className="py-4">
          {known ? 'There is no such task; one exists from its first job, or from its first defaults.' : 'Reading the task …'}
        </p>
      )}
      {t && <Known key={JSON.stringify(t.defaults ?? {})} t={t} />}
    </Beside>
  )
}

function Known({ t }: { t: Task }) {
  const may = useMayAct()
  const before = entered(t.defaults)
  const [now, set] = useState<Entered>(before)
  const { defaults, wrong } = read(now, t.defaults)
  const changed = JSON.stringify(now) !== JSON.stringify(before)
  useUnsaved(changed)
  return (
    <>
      <p className="py-3">
        What a job of this task gets where it says nothing itself. Jobs that are there already keep what they have, until they are requeued.
      </p>
      {t.from_file && <FromFile />}
      {t.defaults?.calls && <p className="pb-3">The service makes the calls of this task itself; no worker does them.</p>}
      {t.defaults?.notify && <p className="pb-3">How its jobs end is told: {t.defaults.notify.map(toldWords).join('; ')}.</p>}
      <DefaultsForm value={now} set={set} wrong={wrong} fixed={!may} ofTask />
      {may && (
        <div className="mt-4 flex items-baseline gap-4">
          {changed ? (
            <Save name={t.name} defaults={defaults} blocked={Object.keys(wrong).length > 0} />
          ) : (
            <span className="text-quiet">Change a field to see what follows, and to save it.</span>
          )}
          {changed && (
            <button type="button" className="press" onClick={() => set(before)}>
              As it was
            </button>
          )}
        </div>
      )}
      <Backoff retry={defaults.retry} maxAttempts={defaults.max_attempts} />
    </>
  )
}

/** toldWords say who is told of which ends. */
function toldWords(n: NonNullable<Defaults['notify']>[number]): string {
  return `${n.on.join(', ')} to ${n.endpoint ? `endpoint ${n.endpoint}` : (n.call?.url ?? n.mail?.to.join(', '))}`
}

function Save({ name, defaults, blocked }: { name: string; defaults: Defaults; blocked: boolean }) {
  const json = JSON.stringify(defaults)
  return (
    <Question
      title={`Set the defaults of ${name}`}
      follows="Jobs that are enqueued or requeued from now on get them. Those that wait, run or are finished are not touched. It can be changed again at any time, and is on record."
      confirm="Set 1 task"
      command={`hmule task set ${name} --replace ${quoted(json)}`}
      send={() => told(api.PUT('/v1/tasks/{name}', { params: { path: { name } }, body: defaults }))}
      blocked={blocked}
    />
  )
}
