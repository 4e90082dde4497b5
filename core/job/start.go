package job

// Start is one of the latest starts of a queue.
type Start struct {
	Job       int64  `json:"job"`
	Task      string `json:"task"`
	Priority  int    `json:"priority"`
	Owner     string `json:"owner,omitzero"`
	Lane      string `json:"lane,omitzero"`
	ReadyAt   Time   `json:"ready_at"`
	StartedAt Time   `json:"started_at"`
	// WaitedMS is how long it was ready.
	WaitedMS int64 `json:"waited_ms"`
	// Overtook counts jobs that were ready before it and were started after it, as far
	// as the starts that are kept tell; First are up to three of them.
	Overtook int     `json:"overtook"`
	First    []int64 `json:"first,omitzero"`
}

// Overtakings tells of starts in their order which of them overtook which.
func Overtakings(starts []Start) {
	const told = 3
	for i := range starts {
		s := &starts[i]
		s.WaitedMS = s.StartedAt.Sub(s.ReadyAt).Milliseconds()
		for _, later := range starts[i+1:] {
			if later.ReadyAt < s.ReadyAt {
				if s.Overtook++; len(s.First) < told {
					s.First = append(s.First, later.Job)
				}
			}
		}
	}
}
