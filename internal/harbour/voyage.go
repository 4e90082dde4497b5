package harbour

import (
	"context"
	"fmt"

	"humblemule.example/api"
	"humblemule.example/job"
)

// Voyage is a ship's call as a batch: the parts of its manifest are checked and the tide is predicted,
// then it gets a berth, pays its dues, and when all is over the mariners are told. One whose manifest
// is malformed stays stuck until somebody requeues or discards that part.
func Voyage(ship, owner string, cents int, parts ...string) api.NewBatch {
	b := api.NewBatch{Name: "voyage of " + ship, Owner: owner, Labels: map[string]string{"ship": ship}}
	add := func(ref, task, queue string, payload any, after ...string) {
		j := api.BatchJob{Ref: ref, Spec: job.Spec{Task: task, Queue: queue, Payload: job.JSON(payload)}}
		if len(after) > 0 {
			j.After = &job.After{Refs: after}
		}
		b.Jobs = append(b.Jobs, j)
	}
	var checked []string
	for i, part := range parts {
		ref := fmt.Sprintf("part-%d", i+1)
		add(ref, ManifestCheck, "berths", Arrival{part})
		checked = append(checked, ref)
	}
	add("tide", TidePredict, "", Day{Station: "inner-quay", Date: "2026-12-01"})
	add("berth", BerthPlan, "berths", Call{Ship: ship, Berth: "berth-4", Hours: 8}, append(checked, "tide")...)
	add("dues", DuesCharge, "", Dues{ship, cents}, "berth")
	b.Last = &job.Spec{Task: NoticePublish, Queue: "bulletins", Payload: job.JSON(Notice{1000 + len(parts), ship + " has been cleared."})}
	return b
}

// voyage is a ship that comes with a manifest in parts; now and then one of them is malformed.
func (t *Traffic) voyage(ctx context.Context, stuck bool) error {
	ship, parts := ships[t.random.IntN(len(ships))], []string{"brisa-0412", "kelpie-0107", "osprey-2231", "marram-0950"}
	if parts = parts[:2+t.random.IntN(3)]; stuck {
		parts = append(parts, "curlew-1405")
	}
	_, err := t.office.MakeBatch(ctx, Voyage(ship, agents[t.random.IntN(len(agents))], 10_000+t.random.IntN(90_000), parts...))
	return err
}
