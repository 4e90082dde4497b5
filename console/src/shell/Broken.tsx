import { useRouteError } from 'react-router'

import { base } from '../lib/base'

/** Broken says that the page itself has failed; the service has not. */
export function Broken() {
  const error = useRouteError()
  return (
    <main className="mx-auto max-w-[60ch] px-4 py-16">
      <h1 className="text-2xl font-semibold">This page has failed</h1>
      <p className="py-3">
        The console made a mistake; the service and its jobs are not touched by it. Load the page again; if it fails again, tell who runs
        the service what stands here.
      </p>
      <pre className="overflow-x-auto border-y border-hairline py-2 font-mono text-[13px]">{String(error)}</pre>
      <p className="flex gap-4 pt-4">
        <button type="button" className="button button-main" onClick={() => location.reload()}>
          Load again
        </button>
        <a className="button" href={`${base}/`}>
          Go to Now
        </a>
      </p>
    </main>
  )
}
