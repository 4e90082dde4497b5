/** fieldGrid lays out fields in lines of a name, a field and a hint, which stands below the field where there is little room. */
export const fieldGrid =
  'grid grid-cols-[max-content_9rem_minmax(0,1fr)] items-baseline gap-x-4 gap-y-1.5 max-sm:grid-cols-[max-content_minmax(0,1fr)] max-sm:[&>label>*:nth-child(3)]:col-start-2'
