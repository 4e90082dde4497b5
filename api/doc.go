// Package api has the shapes that cross the wire beside jobs themselves, by subject: what
// workers ask and tell, settings, schedules, lists, actions on many jobs, and how things
// stand. The wire itself is described in the service's openapi.yaml.
package api

import "time"

const day = 24 * time.Hour
