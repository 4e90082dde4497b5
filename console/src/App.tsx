import { useEffect, useRef, useState } from 'react'
import { NavLink, Route, Routes, useParams } from 'react-router'

import { forget, token, useRefused } from './api/access'
import { type Counts, type Queue, type Stats, useAbout, useMayAct, useStats } from './api/client'
import { useLink } from './api/live'
import { useFilter, useGo } from './address'
import { Coming } from './Coming'
import { DeadLetters } from './DeadLetters'
import { clock, span, zone } from './format'
import { Login } from './Login'
import { Mule } from './Mark'
import { Now } from './Now'
import { Pause } from './QueueBeside'
import { Queues } from './Queues'
import { routes } from './routes'
import { Settings } from './Settings'
import { Sentence } from './Sentence'
import { useNow } from './useNow'
import { Way } from './Way'
import { Workers } from './Workers'

/** App is what every page has: its head, the sentence on how things stand, and the way. */
export function App() {
  const filter = useFilter()
  const stats = useStats(filter.queue)
  const refused = useRefused()
  if (refused) return <Login />
  return (
    <div className="mx-auto min-h-screen max-w-[1800px] px-4 pb-16 sm:px-8">
      <Head queues={stats.data?.queues ?? []} />
      <main>
        <Sentence stats={stats.data} error={stats.error} />
        <StickyWay stats={stats.data} />
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
      return <Now counts={counts} />
    case 'dead':
      return <DeadLetters open={cause} />
    case 'coming':
      return <Coming open={schedule} />
    case 'queues':
      return <Queues open={queue} />
    case 'workers':
      return <Workers open={worker} />
    case 'settings':
      return <Settings open={task} />
  }
}

function Head({ queues }: { queues: Queue[] }) {
  const { queue } = useFilter()
  const go = useGo()
  const may = useMayAct()
  const chosen = queues.find((q) => q.name === queue)
  const names = queues.map((q) => q.name)
  if (queue && !chosen) names.push(queue)
  return (
    <header className="flex flex-wrap items-center gap-x-6 gap-y-1 border-b border-hairline py-3">
      <h1 className="flex items-center gap-2 font-semibold">
        <Mule /> Humble Mule
      </h1>
      <nav aria-label="Pages" className="flex flex-wrap gap-x-5 gap-y-1 whitespace-nowrap">
        <Page to="/">Now</Page>
        <Page to="/dead">Dead letters</Page>
        <Page to="/coming">Coming up</Page>
        <Page to="/queues">Queues</Page>
        <Page to="/workers">Workers</Page>
        <Page to="/settings">Settings</Page>
      </nav>
      <label className="flex items-center gap-2">
        <span className="text-quiet">Queue</span>
        <select className="field" value={queue ?? ''} onChange={(e) => go({ queue: e.target.value || undefined })}>
          <option value="">all queues</option>
          {names.map((n) => (
            <option key={n}>{n}</option>
          ))}
        </select>
      </label>
      {may && chosen && <Pause q={chosen} />}
      <Freshness />
      <Who />
    </header>
  )
}

function Page({ to, children }: { to: string; children: string }) {
  const { queue } = useFilter()
  const search = queue ? `?queue=${encodeURIComponent(queue)}` : ''
  return (
    <NavLink
      to={to + search}
      end={to === '/'}
      className={({ isActive }) =>
        isActive ? 'border-b-2 border-accent font-semibold' : 'border-b-2 border-transparent hover:border-hairline'
      }
    >
      {children}
    </NavLink>
  )
}

/** Who tells whom the service takes the reader for, where it asks for tokens. */
function Who() {
  const about = useAbout().data
  if (!token || !about) return null
  return (
    <p className="text-quiet">
      {about.principal}, {about.role}{' '}
      <button type="button" className="press" onClick={forget}>
        Forget the token
      </button>
    </p>
  )
}
/** Freshness tells how old what is shown is, and in which zone its times are. */
function Freshness() {
  const link = useLink()
  const now = useNow(1000)
  if (link.live || !link.at) {
    return (
      <p className="ml-auto text-quiet">
        {link.live ? 'Live' : 'Connecting'}
        <span className="max-sm:hidden"> · times in {zone}</span>
      </p>
    )
  }
  return (
    <p role="alert" className="ml-auto font-semibold">
      No answer for {span(Math.floor(Math.max(now - link.at.getTime(), 0) / 1000) * 1000).replace('.0 s', ' s')}; figures of{' '}
      {clock(link.at)}
    </p>
  )
}

/** StickyWay keeps the way in sight, narrowed to one row once the page is scrolled. */
function StickyWay({ stats }: { stats?: Stats }) {
  const mark = useRef<HTMLDivElement>(null)
  const [narrow, setNarrow] = useState(false)
  useEffect(() => {
    const watch = new IntersectionObserver(([entry]) => setNarrow(!entry!.isIntersecting && entry!.boundingClientRect.top < 0))
    watch.observe(mark.current!)
    return () => watch.disconnect()
  }, [])
  return (
    <>
      <Way stats={stats} />
      <div ref={mark} />
      {narrow && (
        <div className="fixed inset-x-0 top-0 z-10 border-b border-hairline bg-ground px-4 sm:px-8">
          <div className="mx-auto max-w-[1800px]">
            <Way stats={stats} row />
          </div>
        </div>
      )}
    </>
  )
}
