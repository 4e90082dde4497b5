package trend

// Usual tells how long runs of one task usually take. It forgets slowly: it holds
// the last one to two thousand runs. The zero value is ready to use. It is not
// safe for concurrent use.
type Usual struct {
	now, before Sketch
}

const runsKept = 1000

// Add adds a run in milliseconds.
func (u *Usual) Add(ms float64) {
	if u.now.Count() >= runsKept {
		u.before, u.now = u.now, Sketch{}
	}
	u.now.Add(ms)
}

// Sketch gives the runs that are not forgotten.
func (u *Usual) Sketch() Sketch {
	var s Sketch
	s.Merge(&u.before)
	s.Merge(&u.now)
	return s
}
