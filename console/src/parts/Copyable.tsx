import { useState } from 'react'

/** Copyable shows a command that does the same, ready to copy. */
export function Copyable({ command }: { command: string }) {
  const [said, setSaid] = useState('Copy')
  const copy = () => {
    navigator.clipboard.writeText(command).then(
      () => setSaid('Copied'),
      () => setSaid('Select it to copy'),
    )
    setTimeout(() => setSaid('Copy'), 2000)
  }
  return (
    <p className="mt-2 flex flex-wrap items-baseline gap-x-3 text-sm">
      <code className="font-mono text-[13px] break-all">{command}</code>
      <button type="button" className="press" onClick={copy} aria-label={`Copy the command ${command}`}>
        {said}
      </button>
    </p>
  )
}
