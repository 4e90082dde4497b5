import { useEffect, useRef, useState } from 'react'

import { useFilter, useGo, useOpenJob } from './address'
import { useStats } from './api/client'
import { useLink } from './api/live'
import { clock, span, zone } from './format'
import { JobBeside } from './JobBeside'
import { JobList } from './JobList'
import { Mule } from './Mark'
import { Sentence } from './Sentence'
import { Way } from './Way'
import { useNow } from './useNow'

/** Now is the page that answers: how do things stand, and which jobs are they. */
export function Now() {
  const filter = useFilter()
  const open = useOpenJob()
  const stats = useStats(filter.queue)
  return (
    <div className="mx-auto min-h-screen max-w-[1800px] px-4 pb-16 sm:px-8">
      <Head queues={stats.data?.queues.map((q) => q.name) ?? []} />
      <main>
        <Sentence stats={stats.data} error={stats.error} />
        <StickyWay stats={stats.data} />
        <div className={open ? 'grid gap-x-8 lg:grid-cols-[minmax(0,1fr)_minmax(0,32rem)] 2xl:grid-cols-[minmax(0,1fr)_minmax(0,44rem)]' : ''}>
          <div className={open ? 'max-lg:hidden' : ''}>
            <JobList filter={filter} open={open} counts={stats.data?.counts} />
          </div>
          {open && <JobBeside key={open} id={open} />}
        </div>
      </main>
    </div>
  )
}

function Head({ queues }: { queues: string[] }) {
  const { queue } = useFilter()
  const go = useGo()
  const names = queue && !queues.includes(queue) ? [...queues, queue] : queues
  return (
    <header className="flex flex-wrap items-center gap-x-6 gap-y-1 border-b border-hairline py-3">
      <h1 className="flex items-center gap-2 font-semibold">
        <Mule /> Humble Mule
      </h1>
      <label className="flex items-center gap-2">
        <span className="text-quiet">Queue</span>
        <select className="field" value={queue ?? ''} onChange={(e) => go({ queue: e.target.value || undefined })}>
          <option value="">all queues</option>
          {names.map((n) => (
            <option key={n}>{n}</option>
          ))}
        </select>
      </label>
      <Freshness />
    </header>
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
      No answer from the service since {clock(link.at)} ({span(Math.max(now - link.at.getTime(), 0))}). What you see is from then; it is
      asked again by itself.
    </p>
  )
}

/** StickyWay keeps the way in sight, narrowed to one row once the page is scrolled. */
function StickyWay({ stats }: { stats: Parameters<typeof Way>[0]['stats'] }) {
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
