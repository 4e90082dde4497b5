package job

// FindingKind is how a finding is meant.
type FindingKind string

// The kinds.
const (
	// FoundGood says that something is as it should be.
	FoundGood FindingKind = "good"
	// FoundNote tells of something that need not be mended.
	FoundNote FindingKind = "note"
	// FoundWrong asks to be mended.
	FoundWrong FindingKind = "wrong"
)

// Finding is what a check has found of something.
type Finding struct {
	Kind FindingKind `json:"kind"`
	// What is a word for what was looked at, such as queues, disk or clock.
	What string `json:"what"`
	// Says is a sentence on it.
	Says string `json:"says"`
}
