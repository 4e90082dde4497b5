/** Why is the field of a note that is kept with an action. */
export function Why({ value, set }: { value: string; set: (note: string) => void }) {
  return (
    <label className="mt-3 block">
      <span className="text-quiet">Why; it is kept with the action</span>
      <input
        className="mt-1 block w-full rounded-sm border border-quiet bg-ground px-2 py-1"
        value={value}
        maxLength={2000}
        onChange={(e) => set(e.target.value)}
      />
    </label>
  )
}
