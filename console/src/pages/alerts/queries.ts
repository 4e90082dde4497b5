import { useQuery } from '@tanstack/react-query'

import { api, told } from '../../api/client'
import { keys } from '../../api/keys'

/** How often is asked anew: as often as the service looks. */
const anew = 10_000

/** useAlerts lists the alerts, those that are not over first. */
export function useAlerts() {
  return useQuery({
    queryKey: keys.alerts.list,
    queryFn: async () => (await told(api.GET('/v1/alerts'))).alerts,
    refetchInterval: anew,
  })
}

/** useAlertSetup gives the rules, and the channels by which somebody is told. */
export function useAlertSetup() {
  return useQuery({ queryKey: keys.alerts.setup, queryFn: () => told(api.GET('/v1/alerts/rules')) })
}
