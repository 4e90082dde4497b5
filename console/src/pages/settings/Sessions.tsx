import { session } from '../../api/access'
import { queryClient, useSessions, api, told } from '../../api/client'
import { keys } from '../../api/keys'
import { age, moment } from '../../lib/format'
import { useNow } from '../../lib/useNow'
import { Question } from '../../parts/Question'

/** Sessions answers: who is signed in. Where the service asks for no token nobody is. */
export function Sessions() {
  const { data } = useSessions()
  const now = useNow(30_000)
  if (!session() || !data) return null
  return (
    <section aria-label="Signed in" className="mt-10">
      <div className="border-b border-hairline pb-2">
        <h2 className="text-lg font-semibold">Signed in</h2>
        <p className="max-w-[80ch]">
          {data.length === 1 ? 'You alone are signed in.' : `${data.length} sessions.`} A session ends a day after its last request, a week
          after its begin, or with its token.
        </p>
      </div>
      <ul>
        {data.map((s) => (
          <li key={s.id} className="flex min-h-[36px] flex-wrap items-center gap-x-5 border-b border-hairline py-1">
            <span className="w-40 truncate font-semibold">
              <bdi>{s.principal}</bdi>
              {s.this && <span className="font-normal text-quiet">, this one</span>}
            </span>
            <span className="w-36" title={moment(s.seen_at)}>
              seen {age(s.seen_at, now)}
            </span>
            <span className="w-44 text-quiet">since {moment(s.made_at)}</span>
            <span className="w-32 text-quiet">{s.address}</span>
            <span className="min-w-0 flex-1 truncate text-quiet max-sm:hidden" title={s.agent}>
              <bdi>{s.agent}</bdi>
            </span>
            {!s.this && (
              <Question
                title="End session"
                follows={`${s.principal} is signed out on ${s.address}, in all tabs. Whoever has the token can sign in again; to prevent that, take it out of the tokens file.`}
                confirm={`End the session of ${s.principal}`}
                command={`hmule session end ${s.id}`}
                send={async () => {
                  const { error } = await api.DELETE('/v1/sessions/{id}', { params: { path: { id: s.id } } })
                  if (error) await told(Promise.resolve({ error }))
                  await queryClient.invalidateQueries({ queryKey: keys.sessions })
                }}
                done={() => ({ text: `The session of ${s.principal} has ended.` })}
              />
            )}
          </li>
        ))}
      </ul>
    </section>
  )
}
