// Forms with changes that are not saved: whoever leaves them is asked first.
import { useEffect } from 'react'

const unsaved = new Set<object>()

export const anyUnsaved = () => unsaved.size > 0

/** forgetUnsaved lets the page be left without a question: what was entered is saved, or given up. */
export const forgetUnsaved = () => unsaved.clear()

/** useUnsaved notes whether a form has changes that are not saved. */
export function useUnsaved(changed: boolean) {
  useEffect(() => {
    if (!changed) return
    const form = {}
    unsaved.add(form)
    return () => void unsaved.delete(form)
  }, [changed])
}
