package job

// Warning tells of something that is allowed and likely not meant, or that will not go as
// one may expect.
type Warning struct {
	// Code is one of a closed list, for programs.
	Code string `json:"code"`
	// Message is a sentence that says what will happen, and what to do.
	Message string `json:"message"`
}

// The codes of warnings.
const (
	WarnNoLimit        = "no_attempt_limit"
	WarnRunsMeet       = "missed_runs_meet"
	WarnZone           = "zone_not_given"
	WarnFromFile       = "set_by_file"
	WarnQueueUnserved  = "queue_unserved"
	WarnTaskUndone     = "task_undone"
	WarnWorkDone       = "work_was_done"
	WarnOneAttemptFits = "one_attempt_fits"
)
