import { useQuery } from '@tanstack/react-query'

import { api, told } from '../../api/client'
import { keys } from '../../api/keys'

/** How often is asked anew: what arrives and what is told changes without a word of the service. */
const anew = 10_000

/** useHooks lists the hooks with their counts. */
export function useHooks() {
  return useQuery({
    queryKey: keys.hooks.list,
    queryFn: async () => (await told(api.GET('/v1/hooks'))).hooks,
    refetchInterval: anew,
  })
}

/** How many deliveries are listed. */
const deliveriesListed = 50

/** useDeliveries lists what a hook has taken, the latest first. */
export function useDeliveries(name: string) {
  return useQuery({
    queryKey: keys.hooks.deliveries(name),
    queryFn: () => told(api.GET('/v1/hooks/{name}/deliveries', { params: { path: { name }, query: { limit: deliveriesListed } } })),
    placeholderData: undefined,
    refetchInterval: anew,
  })
}

/** useEndpoints lists the endpoints, and how they take their messages. */
export function useEndpoints() {
  return useQuery({
    queryKey: keys.endpoints,
    queryFn: async () => (await told(api.GET('/v1/endpoints'))).endpoints,
    refetchInterval: anew,
  })
}
