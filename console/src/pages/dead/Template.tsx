/** Template writes a cause's error, the parts that vary in a lighter ink. */
export function Template({ text }: { text: string }) {
  return (
    <>
      {text.split(/(#|<(?:time|address|path|url|mail)>|“…”)/).map((part, i) =>
        i % 2 === 1 ? (
          <span key={i} className="text-quiet">
            {part}
          </span>
        ) : (
          part
        ),
      )}
    </>
  )
}
