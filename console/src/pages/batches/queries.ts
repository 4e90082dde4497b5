import { useQuery } from '@tanstack/react-query'

import { type Batch, api, told } from '../../api/client'
import { keys } from '../../api/keys'

/** How many batches are listed. */
export const batchesListed = 200

/** useBatches lists the newest batches, of a state where one is asked for. */
export function useBatches(state?: Batch['state'], enabled = true) {
  return useQuery({
    queryKey: keys.batches.list(state),
    queryFn: () => told(api.GET('/v1/batches', { params: { query: { state, limit: batchesListed } } })),
    refetchInterval: 30_000,
    enabled,
  })
}

/** useBatch tells how a batch stands. */
export function useBatch(id: number) {
  return useQuery({
    queryKey: keys.batches.one(id),
    queryFn: () => told(api.GET('/v1/batches/{id}', { params: { path: { id } } })),
    placeholderData: undefined,
  })
}

/** useBatchGraph lays the jobs of a batch in levels. */
export function useBatchGraph(id: number) {
  return useQuery({
    queryKey: keys.batches.graph(id),
    queryFn: () => told(api.GET('/v1/batches/{id}/graph', { params: { path: { id } } })),
    placeholderData: undefined,
  })
}
