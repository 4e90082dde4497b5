import { Field } from '../../parts/DefaultsForm'
import type { EnteredRules, RuleName } from './rules'
import { fieldGrid } from '../../lib/fieldGrid'

interface Form {
  value: EnteredRules
  set: (e: EnteredRules) => void
  wrong: Partial<Record<RuleName, string>>
  /** fixed is true for those who may only read. */
  fixed: boolean
}

/** RulesForm are the fields of a queue's order and limits. */
export function RulesForm({ value, set, wrong, fixed }: Form) {
  const change = (name: RuleName) => (e: { target: { value: string } }) => set({ ...value, [name]: e.target.value })
  const text = (name: RuleName, label: string, hint: string, placeholder: string) => (
    <Field label={label} hint={wrong[name] ?? hint} wrong={!!wrong[name]}>
      <input
        className="field w-full placeholder:text-quiet"
        name={name}
        disabled={fixed}
        spellCheck={false}
        placeholder={placeholder}
        value={value[name]}
        onChange={change(name)}
      />
    </Field>
  )
  const choice = (name: RuleName, label: string, hint: string, options: [string, string][]) => (
    <Field label={label} hint={hint}>
      <select className="field w-full" name={name} disabled={fixed} value={value[name]} onChange={change(name)}>
        {options.map(([word, says]) => (
          <option key={word} value={word}>
            {says}
          </option>
        ))}
      </select>
    </Field>
  )
  const ageing = value.order === 'ageing'
  return (
    <div className={fieldGrid}>
      {choice(
        'order',
        'order',
        ageing ? 'by due time, earlier for each priority: nothing starves' : 'the highest priority first, then the longest waiting',
        [
          ['priority', 'by priority'],
          ['ageing', 'ageing'],
        ],
      )}
      {ageing && text('boost', 'a priority is worth', 'how much earlier one priority more makes a job due', '1m')}
      {!ageing &&
        choice('turns', 'owners', value.turns ? 'a burst of one holds up nobody else' : 'whose a job is does not matter', [
          ['', 'all alike'],
          ['owner', 'take turns'],
        ])}
      {!ageing && value.turns && (
        <Field
          label="their weights"
          hint={wrong.weights ?? 'a line each, such as Marsh Agency = 3; others weigh 1'}
          wrong={!!wrong.weights}
        >
          <textarea
            className="block w-full rounded-sm border border-quiet bg-ground p-1 text-[13px]"
            name="weights"
            rows={3}
            disabled={fixed}
            spellCheck={false}
            value={value.weights}
            onChange={change('weights')}
          />
        </Field>
      )}
      {text('max_running', 'running at once', 'at most, over all pools', 'no limit')}
      {text('max_waiting', 'waiting at once', 'at most; what is enqueued beyond is refused', 'no limit')}
      {text('per_second', 'starts a second', 'at most; 0.1 is one in ten seconds', 'no limit')}
      {value.per_second && text('burst', 'of them at once', 'after a quiet time', '1')}
      {choice('lane_on_backoff', 'lane, on backoff', 'what the next job of a lane does while one waits for its next attempt', [
        ['wait', 'waits'],
        ['pass', 'goes on'],
      ])}
      {choice('lane_on_dead', 'lane, on a dead letter', 'what the next job of a lane does behind a dead one', [
        ['pass', 'goes on'],
        ['stop', 'stops'],
      ])}
    </div>
  )
}
