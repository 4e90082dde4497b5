import { useEffect } from 'react'

/** useTitle names what is open in the browser's tab; the first part is what differs. */
export function useTitle(...parts: (string | undefined | false)[]) {
  const title = [...parts.filter(Boolean), 'Humble Mule'].join(' · ')
  useEffect(() => {
    document.title = title
  }, [title])
}
