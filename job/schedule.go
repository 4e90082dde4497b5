package job

// ScheduledBy tells a handler which run of which schedule its job is.
type ScheduledBy struct {
	Name      string `json:"name"`
	Run       int64  `json:"run"`
	PlannedAt Time   `json:"planned_at"`
}
