import { Route, Routes, useLocation, useParams } from 'react-router'

import { useRefused } from '../api/access'
import { type Counts, useStats } from '../api/client'
import { Coming } from '../pages/coming/Coming'
import { DeadLetters } from '../pages/dead/DeadLetters'
import { Jobs } from '../pages/jobs/Jobs'
import { Log } from '../pages/log/Log'
import { Now } from '../pages/now/Now'
import { Queues } from '../pages/queues/Queues'
import { Settings } from '../pages/settings/Settings'
import { Workers } from '../pages/workers/Workers'
import { Head } from './Head'
import { Login } from './Login'
import { routes } from './routes'
import { Strip } from './Strip'

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
        <Routes>
          {routes.map(({ path, page }) => (
            <Route key={path} path={path} element={<PageAt page={page} counts={stats.data?.counts} />} />
          ))}
        </Routes>
      </main>
    </div>
  )
}

/** PageAt is the page of an address, with what is open beside it. */
function PageAt({ page, counts }: { page: (typeof routes)[number]['page']; counts?: Counts }) {
  const { cause, schedule, queue, task, worker } = useParams()
  switch (page) {
    case 'now':
      return <Now />
    case 'jobs':
      return <Jobs counts={counts} />
    case 'dead':
      return <DeadLetters open={cause} />
    case 'coming':
      return <Coming open={schedule} />
    case 'queues':
      return <Queues open={queue} />
    case 'workers':
      return <Workers open={worker} />
    case 'log':
      return <Log />
    case 'settings':
      return <Settings open={task} />
  }
}
