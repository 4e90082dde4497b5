package memory

import (
	"encoding/json"
	"fmt"
	"sync/atomic"

	"humblemule.example/api"
	"humblemule.example/job"
)

// Settings are what was set for queues and tasks, which queues are paused, and what of all
// that a file defines.
type Settings struct{ SettingsView }

// SettingsView is what of them can be seen, and not changed.
type SettingsView struct {
	layered
	queues Overlay[int64, QueueSettings]
	tasks  Overlay[int64, TaskSettings]
	pauses Overlay[int64, Pause]
	owned  Cell[Owned]
	// ownedSet tells that the transaction has set owned.
	ownedSet bool
	// version is one more than the sum of the versions of queues and tasks. Anybody reads
	// it, without a lock.
	version atomic.Int64
}

// QueueSettings are those of a queue.
type QueueSettings struct {
	// Defaults are as they were set; nil for none.
	Defaults *api.Defaults
	// Rules are what they come to, whole.
	Rules   *api.Rules
	Version int64
}

// TaskSettings are those of a task.
type TaskSettings struct {
	Defaults *api.Defaults
	Version  int64
}

// Pause tells who has paused a queue, and when; zero where nobody has.
type Pause struct {
	At job.Time
	By string
}

// Owned is what comes from a file: the names of queues, tasks, schedules and hooks that it
// defines, and what it says of retention, triage and alerts.
type Owned struct {
	Queues    []string         `json:"queues"`
	Tasks     []string         `json:"tasks"`
	Schedules []string         `json:"schedules,omitzero"`
	Hooks     []string         `json:"hooks,omitzero"`
	Endpoints []string         `json:"endpoints,omitzero"`
	Retention *api.Retention   `json:"retention,omitzero"`
	Triage    []api.TriageRule `json:"triage,omitzero"`
	Alerts    *api.Alerts      `json:"alerts,omitzero"`
	// ByHand are the settings of these queues and tasks that were changed by hand since:
	// their names, by queue and task in the words of [job.Setting].
	ByHand map[string][]string `json:"by_hand,omitzero"`
}

var builtInRules = api.Rules{}.WithDefaults()

// rulesOf gives the whole rules of what was set for a queue.
func rulesOf(d *api.Defaults) *api.Rules {
	if d == nil {
		return &builtInRules
	}
	r := d.Rules.WithDefaults()
	return &r
}

// readDefaults reads stored defaults; nil where there are none.
func readDefaults(settings string) (*api.Defaults, error) {
	if settings == "" || settings == "{}" {
		return nil, nil
	}
	d := new(api.Defaults)
	return d, json.Unmarshal([]byte(settings), d)
}

// writeDefaults gives defaults as they are stored, and as they are kept: nil for none.
func writeDefaults(d api.Defaults) (body string, kept *api.Defaults, err error) {
	raw, err := json.Marshal(d)
	if err != nil {
		return "", nil, err
	}
	kept, err = readDefaults(string(raw))
	return string(raw), kept, err
}

func (p *Settings) load(f *file) (err error) {
	keep(&p.layered, &p.queues, map[int64]QueueSettings{})
	keep(&p.layered, &p.tasks, map[int64]TaskSettings{})
	keep(&p.layered, &p.pauses, map[int64]Pause{})
	version := int64(1)
	for _, q := range f.queues {
		d, err := readDefaults(q.Settings)
		if err != nil {
			return fmt.Errorf("queue %s: %w", q.Name, err)
		}
		version += q.Version
		p.queues.kept[q.ID] = QueueSettings{d, rulesOf(d), q.Version}
		if q.PausedAt != 0 {
			p.pauses.kept[q.ID] = Pause{q.PausedAt, q.PausedBy}
		}
	}
	for _, t := range f.tasks {
		d, err := readDefaults(t.Settings)
		if err != nil {
			return fmt.Errorf("task %s: %w", t.Name, err)
		}
		version += t.Version
		p.tasks.kept[t.ID] = TaskSettings{d, t.Version}
	}
	p.version.Store(version)
	var owned Owned
	if f.facts.Owned != "" {
		if err := json.Unmarshal([]byte(f.facts.Owned), &owned); err != nil {
			return fmt.Errorf("what was loaded from a file: %w", err)
		}
	}
	keepOne(&p.layered, &p.owned, owned)
	p.m.Causes.Rules.use(owned.Triage)
	return nil
}

// Rules are the whole rules of a queue.
func (p *SettingsView) Rules(q *Named) *api.Rules {
	if s, set := p.queues.Get(q.ID); set {
		return s.Rules
	}
	return &builtInRules
}

// Queue is what was set for a queue; nil where nothing was, or where there is none.
func (p *SettingsView) Queue(q *Named) *api.Defaults {
	if q == nil {
		return nil
	}
	return p.queues.At(q.ID).Defaults
}

// Task is what was set for a task; nil where nothing was.
func (p *SettingsView) Task(id int64) *api.Defaults { return p.tasks.At(id).Defaults }

// MakesCalls tells whether the jobs of a task are calls, which the service makes itself.
func (p *SettingsView) MakesCalls(task int64) bool {
	return p.tasks.At(task).Defaults.MakesCalls() || task != 0 && job.IsOwn(p.m.Tasks.Name(task))
}

// QueueVersion and TaskVersion count how often a queue, or a task, was set; 0 where there is
// none.
func (p *SettingsView) QueueVersion(q *Named) int64 {
	if q == nil {
		return 0
	}
	return p.queues.At(q.ID).Version
}

// TaskVersion goes with [SettingsView.QueueVersion].
func (p *SettingsView) TaskVersion(t *Named) int64 {
	if t == nil {
		return 0
	}
	return p.tasks.At(t.ID).Version
}

// SetQueue sets a queue.
func (p *Settings) SetQueue(q *Named, d api.Defaults) error {
	body, kept, err := writeDefaults(d)
	if err != nil {
		return err
	}
	p.queues.Put(q.ID, QueueSettings{kept, rulesOf(kept), p.queues.At(q.ID).Version + 1})
	return p.m.store.SetQueue(q.ID, body)
}

// SetTask sets a task.
func (p *Settings) SetTask(t *Named, d api.Defaults) error {
	body, kept, err := writeDefaults(d)
	if err != nil {
		return err
	}
	p.tasks.Put(t.ID, TaskSettings{kept, p.tasks.At(t.ID).Version + 1})
	return p.m.store.SetTask(t.ID, body)
}

func (p *Settings) forgetQueue(id int64) {
	p.queues.Delete(id)
	p.pauses.Delete(id)
}

// Paused tells whether a queue is paused.
func (p *SettingsView) Paused(q *Named) bool { return p.pauses.At(q.ID).At != 0 }

// SetPause pauses a queue, or lets it go on where the pause is zero.
func (p *Settings) SetPause(q *Named, to Pause) error {
	p.pauses.Put(q.ID, to)
	p.m.News.Settings = true
	return p.m.store.PauseQueue(q.ID, to.At, to.By)
}

// Owned is what comes from a file.
func (p *SettingsView) Owned() Owned { return p.owned.Get() }

// SetOwned sets what comes from a file.
func (p *Settings) SetOwned(o Owned) error {
	text, err := json.Marshal(o)
	if err != nil {
		return fmt.Errorf("what the file defines cannot be written: %w", err)
	}
	p.owned.Set(o)
	p.ownedSet = true
	return p.m.store.PutOwned(string(text))
}

// Changed tells whether the transaction has changed what is kept for how long.
func (p *SettingsView) Changed() bool { return p.ownedSet || len(p.queues.changed) > 0 }

// LimitsChanged tells whether the transaction has changed settings that may let jobs start.
func (p *SettingsView) LimitsChanged() bool { return len(p.queues.changed)+len(p.tasks.changed) > 0 }

func (p *Settings) publish() {
	for id, s := range p.queues.Changed() {
		p.version.Add(s.Version - p.queues.kept[id].Version)
	}
	for id, s := range p.tasks.Changed() {
		p.version.Add(s.Version - p.tasks.kept[id].Version)
	}
	p.layered.publish()
	if p.ownedSet {
		p.m.Causes.Rules.use(p.owned.kept.Triage)
	}
}

func (p *Settings) drop() {
	p.layered.drop()
	p.ownedSet = false
}

// KeptMakesCalls is MakesCalls of what was committed.
func (p *SettingsView) KeptMakesCalls(task int64) bool {
	return p.KeptTask(task).Defaults.MakesCalls() || task != 0 && job.IsOwn(p.m.Tasks.KeptName(task))
}

// KeptAnyCalls tells whether any task makes calls.
func (p *SettingsView) KeptAnyCalls() bool {
	for _, own := range job.OwnTasks() {
		if p.m.Tasks.KeptID(own) != 0 {
			return true
		}
	}
	for _, s := range p.tasks.kept {
		if s.Defaults.MakesCalls() {
			return true
		}
	}
	return false
}

// Version counts the changes of all settings, from 1 on. Anybody may ask.
func (p *SettingsView) Version() int64 { return p.version.Load() }

// KeptQueue are the settings of a queue.
func (p *SettingsView) KeptQueue(id int64) QueueSettings {
	s, set := p.queues.Kept(id)
	if !set {
		s.Rules = &builtInRules
	}
	return s
}

// KeptTask are the settings of a task.
func (p *SettingsView) KeptTask(id int64) TaskSettings {
	s, _ := p.tasks.Kept(id)
	return s
}

// KeptPause tells who has paused a queue.
func (p *SettingsView) KeptPause(id int64) Pause {
	s, _ := p.pauses.Kept(id)
	return s
}

// KeptOwned is what comes from a file.
func (p *SettingsView) KeptOwned() Owned { return p.owned.kept }
