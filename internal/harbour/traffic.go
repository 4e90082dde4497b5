package harbour

import (
	"context"
	"fmt"
	"math/rand/v2"
	"time"

	"humblemule.example/api"
	"humblemule.example/job"
)

// Office hands over and ends jobs; the client of a service does.
type Office interface {
	Enqueue(ctx context.Context, s job.Spec) (api.Enqueued, error)
	CancelJob(ctx context.Context, id int64) (job.Job, error)
	MakeBatch(ctx context.Context, b api.NewBatch) (api.Batch, error)
}

// Traffic is an ordinary day's flow of jobs. What it enqueues follows from the
// seed.
type Traffic struct {
	office Office
	random *rand.Rand
	pace   time.Duration
	notice int // the number of the last one
	// press is where the press takes notices, and mails tells that the treasurer gets mail.
	press string
	mails bool
}

// NewTraffic makes traffic of about one job per pace. The press is told at an address, empty for nobody, and
// the treasurer by mail of dues that could not be charged, where mails is true.
func NewTraffic(office Office, press string, mails bool, seed uint64, pace time.Duration) *Traffic {
	return &Traffic{office: office, press: press, mails: mails, random: rand.New(rand.NewPCG(seed, 1)), pace: pace}
}

var (
	agents    = []string{"Brine & Daughters", "North Quay Shipping", "Okonkwo Lines", "Marsh Agency"}
	ships     = []string{"brisa-0412", "kelpie-0107", "osprey-2231", "marram-0950", "sandpiper-1180", "tern-0033", "whimbrel-0764", "avocet-0518", "heron-0291", "curlew-1405", "dunlin-0877", "plover-0620"}
	wellKnown = []string{"inner-quay", "lock-gate", "salt-pier"}
)

// Run enqueues until ctx ends.
func (t *Traffic) Run(ctx context.Context) error {
	for n := 0; ; n++ {
		if err := t.step(ctx, n); err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return err
		}
		select {
		case <-time.After(t.pace/2 + time.Duration(t.random.Int64N(int64(t.pace)))):
		case <-ctx.Done():
			return nil
		}
	}
}

// step enqueues the n-th job. The first ones show every kind once.
func (t *Traffic) step(ctx context.Context, n int) error {
	switch {
	case n == 1:
		return t.enqueue(ctx, t.manifest("heron-0291"))
	case n == 2:
		return t.enqueue(ctx, t.manifest("avocet-0518"))
	case n == 3 || n%40 == 12:
		return t.voyage(ctx, n == 3)
	case n%20 == 4:
		return t.enqueue(ctx, t.gullRock())
	case n%20 == 7:
		return t.enqueue(ctx, t.later())
	case n%20 == 11:
		return t.calledOff(ctx)
	case n%20 == 13:
		return t.enqueue(ctx, t.logbook())
	case n%20 == 17:
		return t.enqueue(ctx, t.poll(lostBuoy))
	case n%20 == 1:
		return t.notices(ctx)
	case n%10 == 6 && t.press != "":
		return t.enqueue(ctx, t.tell())
	case n%20 == 5:
		return t.enqueue(ctx, t.fog())
	case n%10 == 8:
		return t.enqueue(ctx, t.berth())
	case n%20 == 9:
		return t.enqueue(ctx, t.dues())
	case n%4 == 2:
		return t.enqueue(ctx, t.poll(buoys[t.random.IntN(len(buoys))]))
	case n%3 == 0:
		return t.enqueue(ctx, t.manifest(ships[t.random.IntN(len(ships))]))
	}
	return t.enqueue(ctx, t.tide(wellKnown[t.random.IntN(len(wellKnown))]))
}

func (t *Traffic) enqueue(ctx context.Context, s job.Spec) error {
	_, err := t.office.Enqueue(ctx, s)
	return err
}

func (t *Traffic) manifest(name string) job.Spec {
	return job.Spec{
		Task: ManifestCheck, Queue: "berths", Payload: job.JSON(Arrival{name}), Key: name, Owner: agents[t.random.IntN(len(agents))],
		Retry: &job.Retry{First: job.Duration(4 * time.Second)}, Labels: map[string]string{"berth": fmt.Sprintf("berth-%d", 1+t.random.IntN(5))},
	}
}

func (t *Traffic) tide(station string) job.Spec {
	tries := 4
	return job.Spec{
		Task: TidePredict, Payload: job.JSON(t.day(station)), MaxAttempts: &tries,
		Retry: &job.Retry{First: job.Duration(3 * time.Second), Factor: 2}, Timeout: job.Duration(20 * time.Second),
		Labels: map[string]string{"station": station},
	}
}

func (t *Traffic) day(station string) Day {
	return Day{Station: station, Date: time.Now().AddDate(0, 0, t.random.IntN(60)).Format(time.DateOnly)}
}

func (t *Traffic) poll(buoy string) job.Spec {
	return job.Spec{Task: BuoyPoll, Payload: job.JSON(Watch{buoy}), Retry: &job.Retry{First: job.Duration(5 * time.Second), Ceiling: job.Duration(2 * time.Minute)}, Labels: map[string]string{"buoy": buoy}}
}

func (t *Traffic) logbook() job.Spec {
	return job.Spec{Task: LogPack, Queue: "archive", Payload: job.JSON(Logbook{Date: time.Now().Format(time.DateOnly), Lines: 20_000 + t.random.IntN(60_000)})}
}

// dues are charged once a day and ship: the key keeps a second job away.
func (t *Traffic) dues() job.Spec {
	ship := ships[t.random.IntN(len(ships))]
	var notify []job.Notify
	if t.mails {
		notify = []job.Notify{{On: []job.State{job.Dead}, Mail: &job.Mail{To: []string{"treasurer@saltmarrow.example"}, Subject: "[harbour]"}}}
	}
	return job.Spec{
		Notify: notify,
		Task:   DuesCharge, Payload: job.JSON(Dues{ship, 10_000 + t.random.IntN(90_000)}), Key: ship + " " + time.Now().Format(time.DateOnly), Dedupe: "24h",
		Retry: &job.Retry{Curve: job.Fixed, First: job.Duration(4 * time.Second)}, Owner: agents[t.random.IntN(len(agents))],
	}
}

// berth is a ship that asks for hours at one of five berths.
func (t *Traffic) berth() job.Spec {
	c := Call{Ship: ships[t.random.IntN(len(ships))], Berth: fmt.Sprintf("berth-%d", 1+t.random.IntN(5)), Hours: 2 + t.random.IntN(20)}
	return job.Spec{
		Task: BerthPlan, Queue: "berths", Lane: c.Berth, Payload: job.JSON(c), Owner: agents[t.random.IntN(len(agents))],
		Retry: &job.Retry{First: job.Duration(4 * time.Second)},
	}
}

// fog is a warning that goes before every notice, and is of no use after five minutes.
func (t *Traffic) fog() job.Spec {
	nine, air := 9, Air{Station: wellKnown[t.random.IntN(len(wellKnown))], Temperature: 4 + float64(t.random.IntN(80))/10}
	air.DewPoint = air.Temperature - float64(t.random.IntN(20))/10
	return job.Spec{Task: FogBulletin, Queue: "bulletins", Priority: &nine, Payload: job.JSON(air), StartBy: job.At(time.Now().Add(5 * time.Minute)), Retry: &job.Retry{First: job.Duration(2 * time.Second)}}
}

// notices are a burst of ordinary ones.
func (t *Traffic) notices(ctx context.Context) error {
	for range 8 {
		t.notice++
		n := Notice{t.notice, "The buoy " + lostBuoy + " is adrift; mariners keep clear."}
		if err := t.enqueue(ctx, job.Spec{Task: NoticePublish, Queue: "bulletins", Payload: job.JSON(n), Retry: &job.Retry{First: job.Duration(3 * time.Second)}}); err != nil {
			return err
		}
	}
	return nil
}

// gullRock is a prediction that fails until its constants are filed.
func (t *Traffic) gullRock() job.Spec {
	s := t.tide("gull-rock")
	tries := 3
	s.MaxAttempts = &tries
	return s
}

// later is a prediction for this evening's bulletin: it waits for its time.
func (t *Traffic) later() job.Spec {
	s := t.tide("inner-quay")
	s.Delay = job.Duration(time.Duration(2+t.random.IntN(8)) * time.Minute)
	return s
}

// calledOff enqueues a check for a ship that then turns away, and cancels it.
func (t *Traffic) calledOff(ctx context.Context) error {
	s := t.manifest("tern-0033")
	s.Delay = job.Duration(time.Minute)
	j, err := t.office.Enqueue(ctx, s)
	if err != nil {
		return err
	}
	_, err = t.office.CancelJob(ctx, j.ID)
	return err
}
