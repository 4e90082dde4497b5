import { type FormEvent, useState } from 'react'

import { enter, session } from '../api/access'
import { Copyable } from '../parts/Copyable'
import { Mule } from '../parts/Mark'

/** Login asks for the token that the service asks for. */
export function Login() {
  const [text, setText] = useState('')
  const [wrong, setWrong] = useState('')
  const [asking, setAsking] = useState(false)
  const go = (e: FormEvent) => {
    e.preventDefault()
    setAsking(true)
    enter(text.trim())
      .then(
        (why) => {
          setWrong(why)
          setText('')
        },
        () => setWrong('The service gives no answer.'),
      )
      .finally(() => setAsking(false))
  }
  return (
    <main className="mx-auto max-w-[36rem] px-4 pt-[12vh]">
      <h1 className="flex items-center gap-2 text-lg font-semibold">
        <Mule /> Humble Mule
      </h1>
      <p className="py-4 text-xl">{session() ? 'Your session has ended.' : 'This service asks for a token.'}</p>
      <form onSubmit={go}>
        <label className="block">
          <span className="text-quiet">Token</span>
          <input
            className="mt-1 block w-full rounded-sm border border-quiet bg-raised p-2 font-mono text-[13px]"
            type="password"
            autoComplete="current-password"
            autoFocus
            aria-describedby="about-token"
            value={text}
            onChange={(e) => setText(e.target.value)}
          />
        </label>
        <p id="about-token" className="py-3 text-quiet">
          It is not kept in the browser. You are signed in for all tabs until you sign out, or for a day after you were here last. A
          reader’s token shows everything; an operator’s also changes things.
        </p>
        {wrong && (
          <p role="alert" className="pb-3 text-dead">
            {wrong.charAt(0).toUpperCase() + wrong.slice(1)}
          </p>
        )}
        <button type="submit" className="button button-main" disabled={!text.trim() || asking}>
          Sign in
        </button>
      </form>
      <div className="pt-6 text-quiet">
        Whoever runs the service makes one:
        <Copyable command="hmule token new ada --role operator --tokens tokens.yaml" />
      </div>
    </main>
  )
}
