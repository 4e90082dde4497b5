import { NavLink } from 'react-router'

import { leave, session } from '../api/access'
import { useLink } from '../api/live'
import { clock, span, zone } from '../lib/format'
import { useNow } from '../lib/useNow'
import { Mule } from '../parts/Mark'
import { Find } from './Find'
import { pages } from './pages'

/** Head names the product, leads to its pages, finds jobs, and tells how old what is shown is. */
export function Head() {
  return (
    <header className="border-b border-hairline">
      <a href="#page" className="press sr-only focus:not-sr-only">
        Skip to the page
      </a>
      <div className="flex min-h-[46px] flex-wrap items-center gap-x-6 gap-y-1 max-sm:pt-2">
        <h1 className="flex items-center gap-2 font-semibold">
          <Mule /> Humble Mule
        </h1>
        <nav
          aria-label="Pages"
          className="flex gap-x-4 self-stretch whitespace-nowrap max-md:order-last max-md:w-full max-md:overflow-x-auto"
        >
          {pages.map(({ to, name }) => (
            <NavLink
              key={to}
              to={to}
              end={to === '/'}
              className={({ isActive }) =>
                `inline-flex min-h-[32px] items-center border-b-2 ${isActive ? 'border-accent font-semibold' : 'border-transparent hover:border-hairline'}`
              }
            >
              {name}
            </NavLink>
          ))}
        </nav>
        <div className="ml-auto flex items-center gap-4 max-sm:w-full">
          <Find />
          <Freshness />
          <Who />
        </div>
      </div>
    </header>
  )
}

/** Who tells whom the service takes the reader for, where it asks for tokens. */
function Who() {
  const who = session()
  if (!who) return null
  return (
    <p className="text-quiet">
      {who.principal}, {who.role}{' '}
      <button type="button" className="press" onClick={() => void leave()}>
        Sign out
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
      <p className="whitespace-nowrap text-quiet" title={`Times are in ${zone}`}>
        {link.live ? `Live, ${clock(new Date(now))}` : 'Connecting'}
      </p>
    )
  }
  return (
    <p role="alert" className="font-semibold">
      No answer for {span(Math.floor(Math.max(now - link.at.getTime(), 0) / 1000) * 1000).replace('.0 s', ' s')}; figures of{' '}
      {clock(link.at)}
    </p>
  )
}
