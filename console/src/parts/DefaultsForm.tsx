import type { ReactNode } from 'react'

import { fieldGrid } from '../lib/fieldGrid'
import { type Curve, type Entered, type Name, builtIn, curves, firstOf } from './defaults'

interface Form {
  value: Entered
  set: (e: Entered) => void
  wrong: Partial<Record<Name, string>>
  /** fixed is true for those who may only read. */
  fixed: boolean
  /** ofTask shows the queue, which a queue's own defaults have not. */
  ofTask?: boolean
}

/** DefaultsForm are the fields of what jobs get that say nothing themselves. */
export function DefaultsForm({ value, set, wrong, fixed, ofTask }: Form) {
  const field = (name: Name, label: string, hint: string) => (
    <Field key={name} label={label} hint={wrong[name] ?? hint} wrong={!!wrong[name]}>
      <input
        className="field w-full placeholder:text-quiet"
        name={name}
        disabled={fixed}
        spellCheck={false}
        placeholder={name === 'first' ? (firstOf[value.curve as Curve] ?? builtIn.first) : builtIn[name]}
        value={value[name]}
        onChange={(e) => set({ ...value, [name]: e.target.value })}
      />
    </Field>
  )
  const curve = value.curve as Curve | ''
  return (
    <div className={fieldGrid}>
      {ofTask && field('queue', 'queue', 'where its jobs wait')}
      {field('priority', 'priority', '0 to 9, the higher first')}
      {field('max_attempts', 'attempts', 'before it is a dead letter; 0 for no limit')}
      {field('timeout', 'time limit', 'of one attempt, such as 90s or 1h30m')}
      {ofTask && field('max_running', 'running at once', 'at most, over all queues and pools')}
      {ofTask && field('hide', 'hide', 'parts of the payload, such as /card, /email')}
      {field('keep_result', 'keep results', 'after it is done; 0s for not at all')}
      <Field label="backoff" hint={curve ? curves[curve].says : 'as is built in: exponential'}>
        <select
          className="field w-full"
          name="curve"
          disabled={fixed}
          value={value.curve}
          onChange={(e) => set({ ...value, curve: e.target.value })}
        >
          <option value="">built in</option>
          {Object.keys(curves).map((c) => (
            <option key={c}>{c}</option>
          ))}
        </select>
      </Field>
      {curve && (
        <>
          {curves[curve].fields.map((name) => field(name, ...retryWords[name]!))}
          {field('jitter', 'jitter', '0 to 1: how far a wait is drawn from its length, as a part of it')}
          {field('give_up_after', 'give up after', 'from the first start of the round, such as 5d')}
        </>
      )}
    </div>
  )
}

const retryWords: Partial<Record<Name, [string, string]>> = {
  first: ['first wait', 'such as 10s'],
  factor: ['factor', 'from one wait to the next, from 1 on'],
  step: ['step', 'by which each wait is longer'],
  delays: ['waits', 'one after the other, such as 10s, 1m, 10m'],
  ceiling: ['ceiling', 'the longest wait'],
}

/** Field is one field of a form with its name and a word on it. */
export function Field({ label, hint, wrong, children }: { label: string; hint: string; wrong?: boolean; children: ReactNode }) {
  return (
    <label className="contents">
      <span className="text-quiet">{label}</span>
      {children}
      <span role={wrong ? 'alert' : undefined} className={wrong ? 'font-semibold' : 'text-[13px] text-quiet'}>
        {hint}
      </span>
    </label>
  )
}
