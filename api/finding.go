package api

import (
	"fmt"
	"time"

	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

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
	// Summary is a sentence on it.
	Summary string `json:"summary"`
}

// SetAside is timed work that has failed and waits to be tried again.
type SetAside struct {
	// What and ID say what it is: a schedule, lease end, due job and so on.
	What string `json:"what"`
	ID   int64  `json:"id"`
	// Since is when it failed first; Times how often it has.
	Since     job.Time `json:"since"`
	Times     int      `json:"times"`
	AgainInMS int64    `json:"again_in_ms"`
}

// String tells of it in words.
func (a SetAside) String() string {
	again := time.Duration(a.AgainInMS) * time.Millisecond
	return fmt.Sprintf("set aside: %s %d has failed %d times since %s and will be retried in %s; the log says why", a.What, a.ID, a.Times, a.Since, sentence.Roughly(again))
}
