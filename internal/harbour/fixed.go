package harbour

import (
	"time"

	"humblemule.example/api"
	"humblemule.example/job"
)

// Planned is a job whose end is known before.
type Planned struct {
	Spec job.Spec
	// Wanted is the state in which the job comes to rest.
	Wanted job.State
	// Cancel says that it is cancelled right after its enqueue.
	Cancel bool
}

// PlannedBatch is a batch of which it is known before where its jobs come to rest: in their order, the last
// one at the end.
type PlannedBatch struct {
	api.NewBatch
	Wanted []job.State
}

// FixedVoyages are the batches of the day: a ship that is cleared, and one that waits because a part of its
// manifest is malformed.
func FixedVoyages() []PlannedBatch {
	return []PlannedBatch{
		{Voyage("brisa-0412", agents[3], 42_000, "brisa-0412", "kelpie-0107", "osprey-2231"), []job.State{job.Done, job.Done, job.Done, job.Done, job.Done, job.Done, job.Done}},
		{Voyage("marram-0950", agents[1], 18_500, "marram-0950", "curlew-1405"), []job.State{job.Done, job.Dead, job.Done, job.Held, job.Held, job.Held}},
	}
}

// Fixed is a day of which every outcome is known: no chance fails anything that
// is not planned to fail. It needs a world made by NewFixedWorld.
func Fixed() (all []Planned) {
	add := func(n int, wanted job.State, spec job.Spec) {
		for range n {
			all = append(all, Planned{Spec: spec, Wanted: wanted})
		}
	}
	soon := &job.Retry{First: job.Duration(200 * time.Millisecond), Factor: 1.5}
	three := 3
	tide := func(station string, silent int) job.Spec {
		return job.Spec{Task: TidePredict, Payload: job.JSON(Day{Station: station, Date: "2026-12-01", GaugeSilent: silent}), MaxAttempts: &three, Retry: soon, Labels: map[string]string{"station": station}}
	}
	manifest := func(name string) job.Spec {
		return job.Spec{Task: ManifestCheck, Queue: "berths", Payload: job.JSON(Arrival{name}), Key: name, Owner: agents[len(name)%len(agents)]}
	}
	for _, s := range wellKnown {
		add(8, job.Done, tide(s, 0))
		add(2, job.Done, tide(s, 1)) // the gauge answers the second time
	}
	add(1, job.Done, tide("lock-gate", 2))
	add(3, job.Dead, tide("gull-rock", 0)) // its constants have not been filed
	for _, name := range []string{"brisa-0412", "kelpie-0107", "osprey-2231", "marram-0950", "sandpiper-1180", "tern-0033", "whimbrel-0764", "heron-0291b"} {
		add(1, job.Done, manifest(name))
	}
	for _, name := range []string{"heron-0291", "curlew-1405", "dunlin-0877", "plover-0620", "no-such-ship"} {
		add(1, job.Dead, manifest(name))
	}
	add(2, job.Skipped, manifest("avocet-0518"))
	for n, ship := range []string{"brisa-0412", "kelpie-0107", "osprey-2231"} {
		add(1, job.Done, job.Spec{Task: DuesCharge, Payload: job.JSON(Dues{ship, 12_000 + n}), Key: ship, Dedupe: job.Unfinished})
	}
	for _, b := range buoys {
		add(1, job.Done, job.Spec{Task: BuoyPoll, Payload: job.JSON(Watch{b})})
	}
	add(2, job.Backoff, job.Spec{Task: BuoyPoll, Payload: job.JSON(Watch{lostBuoy}), Retry: &job.Retry{First: job.Duration(time.Hour)}})
	add(6, job.Done, job.Spec{Task: LogPack, Queue: "archive", Payload: job.JSON(Logbook{Date: "2026-11-22", Lines: 20_000})})
	for _, minutes := range []int{1, 3} {
		add(1, job.Running, job.Spec{Task: LogPack, Queue: "archive", Payload: job.JSON(Logbook{Date: "2026-11-23", Lines: 20_000, TapeMinutes: minutes})})
	}
	evening := tide("inner-quay", 0)
	evening.Delay = job.Duration(6 * time.Hour)
	add(3, job.Scheduled, evening)
	all = append(all, Planned{Spec: evening, Wanted: job.Cancelled, Cancel: true})
	plan := func(ship, berth string, tug int) job.Spec {
		return job.Spec{Task: BerthPlan, Queue: "berths", Lane: berth, Payload: job.JSON(Call{Ship: ship, Berth: berth, Hours: 6, TugMinutes: tug}), Owner: agents[len(ship)%len(agents)]}
	}
	for _, ship := range ships[:3] {
		add(1, job.Done, plan(ship, "berth-1", 0))
	}
	add(1, job.Running, plan("kelpie-0107", "berth-2", 45))
	add(2, job.Held, plan("osprey-2231", "berth-2", 0)) // behind it in the lane
	for n := range 5 {
		add(1, job.Done, job.Spec{Task: NoticePublish, Queue: "bulletins", Payload: job.JSON(Notice{n + 1, "The lock closes at dusk."})})
	}
	nine := 9
	add(2, job.Done, job.Spec{Task: FogBulletin, Queue: "bulletins", Priority: &nine, Payload: job.JSON(Air{"lock-gate", 7.4, 7.1})})
	add(2, job.Ready, job.Spec{Task: "log.bind", Queue: "bindery"}) // nobody serves it
	return all
}
