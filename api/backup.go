package api

import (
	"humblemule.example/internal/check"
	"humblemule.example/job"
)

// The states of a backup.
const (
	// BackupCopying: the data file is being copied.
	BackupCopying = "copying"
	// BackupChecking: the copy is being checked.
	BackupChecking = "checking"
	// BackupDone: it is whole, checked, and on the disk.
	BackupDone = "done"
	// BackupFailed: there is none; Why says why. It is told until the service is started again.
	BackupFailed = "failed"
)

// Backup is a copy of the data file, made while the service works.
type Backup struct {
	// Name is its file's in the service's folder of backups, and Path where that is.
	Name  string `json:"name"`
	Path  string `json:"path"`
	State string `json:"state"`
	// Scheduled tells that the service made it by itself.
	Scheduled bool     `json:"scheduled"`
	BeganAt   job.Time `json:"began_at,omitzero"`
	EndedAt   job.Time `json:"ended_at,omitzero"`
	// CopiedBytes is how much of Bytes was copied.
	CopiedBytes int64 `json:"copied_bytes"`
	Bytes       int64 `json:"bytes"`
	// At is the moment that it shows.
	At job.Time `json:"at,omitzero"`
	// Store is the id of the store, and Version the program's that has made it.
	Store   string `json:"store,omitzero"`
	Version string `json:"version,omitzero"`
	// Counts are its jobs by state.
	Counts map[job.State]int64 `json:"counts,omitzero"`
	// SHA256 is that of its file, in hex.
	SHA256 string `json:"sha256,omitzero"`
	// Why says why it failed.
	Why string `json:"why,omitzero"`
}

// Over tells that a backup is done or has failed.
func (b *Backup) Over() bool { return b.State == BackupDone || b.State == BackupFailed }

// Backups are the backups of a service.
type Backups struct {
	// Backups are those that are there, the latest first, with the one under way and those that
	// have failed since the service was started.
	Backups []Backup `json:"backups"`
	// Folder is where they stand.
	Folder string `json:"folder"`
	// Rules are those by which the service makes some by itself, and NextAt when it does next; 0
	// where it makes none.
	Rules  BackupRules `json:"rules"`
	NextAt job.Time    `json:"next_at,omitzero"`
	// Wrong says what is wrong with those that it makes by itself; empty where nothing is.
	Wrong string `json:"wrong,omitzero"`
}

// BackupRules say when, where and how a service makes backups by itself.
type BackupRules struct {
	// Folder is where all backups stand; empty for the data file's own name with .backups.
	Folder string `json:"folder,omitzero"`
	// Cron says when, in the local time of Zone, or Every how often; empty for never by itself.
	Cron  string       `json:"cron,omitzero"`
	Every job.Duration `json:"every,omitzero"`
	Zone  string       `json:"zone,omitzero"`
	// Keep is how many of those made by themselves stay, the latest; 0 means 7.
	Keep int `json:"keep,omitzero"`
	// MiBPerSecond is how fast they are copied at most; 0 means 64.
	MiBPerSecond int `json:"mib_per_second,omitzero"`
}

// What backup rules leave out, and their bounds.
const (
	BackupsKept      = 7
	MaxBackupsKept   = 10_000
	BackupSpeed      = 64
	FastestBackup    = 10_000
	shortestInterval = job.Duration(60e9)
)

// WithDefaults gives rules with their defaults, but for the folder.
func (r BackupRules) WithDefaults() BackupRules {
	if r.Keep == 0 {
		r.Keep = BackupsKept
	}
	if r.MiBPerSecond == 0 {
		r.MiBPerSecond = BackupSpeed
	}
	return r
}

// Made tells whether any backups are made by themselves.
func (r BackupRules) Made() bool { return r.Cron != "" || r.Every != 0 }

// Check answers what is wrong with rules, but for their expression and their zone.
func (r *BackupRules) Check() []job.FieldError {
	var c check.List
	switch {
	case r.Cron != "" && r.Every != 0:
		c.Add("every", "cannot be combined with cron; give one of the two")
	case r.Every != 0 && (r.Every < shortestInterval || r.Every > longestEvery):
		c.Add("every", "%s is outside 1m to 366d", r.Every)
	}
	if r.Zone != "" && r.Cron == "" {
		c.Add("zone", "belongs to cron, which is not given")
	}
	if r.Keep < 0 || r.Keep > MaxBackupsKept {
		c.Add("keep", "%d is outside 1 to %d", r.Keep, MaxBackupsKept)
	}
	if r.MiBPerSecond < 0 || r.MiBPerSecond > FastestBackup {
		c.Add("mib_per_second", "%d is outside 1 to %d", r.MiBPerSecond, FastestBackup)
	}
	return c
}

// The states of a compaction.
const (
	CompactRunning = "running"
	CompactDone    = "done"
	CompactStopped = "stopped"
	CompactFailed  = "failed"
)

// DataFile tells of the service's data file.
type DataFile struct {
	Path string `json:"path"`
	// Bytes is its length, of which FreeBytes are in use by nothing; LogBytes is that of its log,
	// and DiskFreeBytes what is free on its disk.
	Bytes         int64 `json:"bytes"`
	FreeBytes     int64 `json:"free_bytes"`
	LogBytes      int64 `json:"log_bytes"`
	DiskFreeBytes int64 `json:"disk_free_bytes"`
	// Compaction is the latest since the service was started; nil where there was none.
	Compaction *Compaction `json:"compaction,omitzero"`
}

// Compaction gives the parts of a data file that nothing uses back to its disk.
type Compaction struct {
	State   string   `json:"state"`
	By      string   `json:"by"`
	BeganAt job.Time `json:"began_at"`
	EndedAt job.Time `json:"ended_at,omitzero"`
	// FreedBytes were given back, and LeftBytes are still to be.
	FreedBytes int64 `json:"freed_bytes"`
	LeftBytes  int64 `json:"left_bytes"`
	// Why says why it was stopped or has failed.
	Why string `json:"why,omitzero"`
}
