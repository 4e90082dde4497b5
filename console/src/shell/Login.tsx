import { type FormEvent, useState } from 'react'

import { enter, token } from '../api/access'
import { Copyable } from '../parts/Copyable'
import { Mule } from '../parts/Mark'

/** Login asks for the token that the service asks for. */
export function Login() {
  const [text, setText] = useState('')
  const go = (e: FormEvent) => {
    e.preventDefault()
    if (text.trim()) enter(text.trim())
  }
  return (
    <main className="mx-auto max-w-[36rem] px-4 pt-[12vh]">
      <h1 className="flex items-center gap-2 text-lg font-semibold">
        <Mule /> Humble Mule
      </h1>
      <p className="py-4 text-xl">
        {token ? 'The service does not know the token of this tab, or no longer.' : 'This service asks for a token.'}
      </p>
      <form onSubmit={go}>
        <label className="block">
          <span className="text-quiet">Token</span>
          <input
            className="mt-1 block w-full rounded-sm border border-quiet bg-raised p-2 font-mono text-[13px]"
            type="password"
            autoComplete="current-password"
            autoFocus
            value={text}
            onChange={(e) => setText(e.target.value)}
          />
        </label>
        <p className="py-3 text-quiet">
          It is kept for this tab, until it is closed. A reader’s token shows everything; an operator’s also changes things.
        </p>
        <button type="submit" className="button button-main" disabled={!text.trim()}>
          Open the console
        </button>
      </form>
      <div className="pt-6 text-quiet">
        Whoever runs the service makes one:
        <Copyable command="hmule token new ada --role operator --tokens tokens.yaml" />
      </div>
    </main>
  )
}
