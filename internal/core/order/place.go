package order

import (
	"time"

	"humblemule.example/job"
)

// Ageing gives the rank of a job in a queue that ages: its due time in milliseconds,
// and boost earlier for each priority. The lowest rank starts first, so that a job of
// priority p that is due at t is overtaken by no job that is due later than
// t + (9-p) × boost: nothing starves.
func Ageing(due job.Time, priority int, boost time.Duration) (rank int64) {
	return int64(due) - int64(priority)*boost.Milliseconds()
}
