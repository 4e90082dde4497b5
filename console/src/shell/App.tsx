import { lazy, Suspense } from 'react'
import { Route, Routes, useLocation, useParams } from 'react-router'

import { useRefused } from '../api/access'
import { type Counts, useStats } from '../api/client'
import { Now } from '../pages/now/Now'
import { Head } from './Head'
import { Keys } from './Keys'
import { Leave } from './Leave'
import { Login } from './Login'
import { Outcome } from './Outcome'
import { routes } from './routes'
import { useTitle } from '../lib/title'
import { Strip } from './Strip'

// What is not on the first page is fetched when it is opened.
const Batches = lazy(() => import('../pages/batches/Batches').then((m) => ({ default: m.Batches })))
const Coming = lazy(() => import('../pages/coming/Coming').then((m) => ({ default: m.Coming })))
const Compare = lazy(() => import('../pages/compare/Compare').then((m) => ({ default: m.Compare })))
const DeadLetters = lazy(() => import('../pages/dead/DeadLetters').then((m) => ({ default: m.DeadLetters })))
const Jobs = lazy(() => import('../pages/jobs/Jobs').then((m) => ({ default: m.Jobs })))
const Log = lazy(() => import('../pages/log/Log').then((m) => ({ default: m.Log })))
const Alerts = lazy(() => import('../pages/alerts/Alerts').then((m) => ({ default: m.Alerts })))
const Outside = lazy(() => import('../pages/outside/Outside').then((m) => ({ default: m.Outside })))
const Queues = lazy(() => import('../pages/queues/Queues').then((m) => ({ default: m.Queues })))
const Settings = lazy(() => import('../pages/settings/Settings').then((m) => ({ default: m.Settings })))
const Workers = lazy(() => import('../pages/workers/Workers').then((m) => ({ default: m.Workers })))

/** App is what every page has: its head and, but on the first one, how things stand in a line. */
export function App() {
  const stats = useStats()
  const refused = useRefused()
  const now = useLocation().pathname === '/'
  if (refused) return <Login />
  return (
    <div className="mx-auto min-h-screen max-w-[1800px] px-4 pb-16 sm:px-7">
      <Head />
      {!now && <Strip stats={stats.data} error={stats.error} />}
      <main id="page" tabIndex={-1} className="outline-none">
        <Suspense>
          <Routes>
            {routes.map(({ path, page }) => (
              <Route key={path} path={path} element={<PageAt page={page} counts={stats.data?.counts} />} />
            ))}
            <Route path="*" element={<Unknown />} />
          </Routes>
        </Suspense>
      </main>
      <Outcome />
      <Keys />
      <Leave />
    </div>
  )
}

/** Unknown says that an address leads nowhere. */
function Unknown() {
  const { pathname } = useLocation()
  useTitle('Not found')
  return (
    <section aria-label="Not found" className="mt-6">
      <h2 className="text-lg font-semibold">Not found</h2>
      <p>
        There is no page at <code className="font-mono text-[13px] break-all">{pathname}</code>. The pages are listed above; / finds a job,
        a queue or a task.
      </p>
    </section>
  )
}

/** PageAt is the page of an address, with what is open beside it. */
function PageAt({ page, counts }: { page: (typeof routes)[number]['page']; counts?: Counts }) {
  const { alert, batch, cause, endpoint, hook, schedule, queue, task, worker } = useParams()
  switch (page) {
    case 'now':
      return <Now />
    case 'jobs':
      return <Jobs counts={counts} />
    case 'batches':
      return <Batches open={batch} />
    case 'dead':
      return <DeadLetters open={cause} />
    case 'coming':
      return <Coming open={schedule} />
    case 'queues':
      return <Queues open={queue} />
    case 'workers':
      return <Workers open={worker} />
    case 'alerts':
      return <Alerts open={alert} />
    case 'outside':
      return <Outside hook={hook} endpoint={endpoint} />
    case 'compare':
      return <Compare />
    case 'log':
      return <Log />
    case 'settings':
      return <Settings open={task} />
  }
}
