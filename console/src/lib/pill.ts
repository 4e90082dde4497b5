// The look of a part of a filter.

export const pill = 'inline-flex h-[28px] max-w-[16rem] items-center gap-1 rounded-full border px-2.5'

/** pillInk is the ink of a part of a filter, by whether it narrows. */
export const pillInk = (set: boolean) => (set ? 'border-accent font-semibold text-accent' : 'border-hairline text-quiet')
