package api

import "humblemule.example/job"

// RetryExplanation is when each attempt of a policy would come.
type RetryExplanation struct {
	Attempts []PlannedAttempt `json:"attempts"`
	// TotalMS is when the last attempt is expected, from the first on.
	TotalMS int64 `json:"total_ms"`
	// Ends says what ends the attempts: attempts_used_up, too_old, or never; only the
	// first attempts are told where there are many.
	Ends string `json:"ends"`
	// Summary tells it in a sentence.
	Summary  string        `json:"summary"`
	Warnings []job.Warning `json:"warnings,omitzero"`
}

// PlannedAttempt is when an attempt comes, from the start of the first one on, if
// attempts take no time: with all jitters lowest, as expected, and highest.
type PlannedAttempt struct {
	Attempt    int   `json:"attempt"`
	EarliestMS int64 `json:"earliest_ms"`
	ExpectedMS int64 `json:"expected_ms"`
	LatestMS   int64 `json:"latest_ms"`
}
