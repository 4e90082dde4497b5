package retry

import (
	"fmt"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// MostPlanned is how many attempts a preview tells at most.
const MostPlanned = 1000

// Preview tells when each attempt of a policy would come, from the start of the first
// one on, as if attempts took no time: the sums of d(n) × (1-jitter), d(n) and d(n) ×
// (1+jitter). It ends as [Judge] would end the job, by the expected times; most
// bounds the attempts told, but not the sentence and the total, which go to the end
// where there is one.
func Preview(p job.Policy, most int) api.RetryExplanation {
	out := api.RetryExplanation{Attempts: []api.PlannedAttempt{{Attempt: 1}}, Ends: "never"}
	j := *p.Retry.Jitter
	var earliest, expected, latest float64 // ns
	last := out.Attempts[0]
	for n := 1; ; n++ {
		if p.MaxAttempts > 0 && n >= p.MaxAttempts {
			out.Ends = string(job.AttemptsUsedUp)
			break
		}
		d := float64(Base(p.Retry, n))
		if after := p.Retry.GiveUpAfter; after > 0 && expected+d > float64(after) {
			out.Ends = string(job.TooOld)
			break
		}
		if n >= most && p.MaxAttempts == 0 && p.Retry.GiveUpAfter == 0 || n >= job.MaxAttemptLimit {
			break
		}
		earliest, expected, latest = earliest+d*(1-j), expected+d, latest+d*(1+j)
		last = api.PlannedAttempt{Attempt: n + 1, EarliestMS: ms(earliest), ExpectedMS: ms(expected), LatestMS: ms(latest)}
		if n < most {
			out.Attempts = append(out.Attempts, last)
		}
	}
	out.TotalMS, out.Summary, out.Warnings = last.ExpectedMS, says(out, last, p), p.Warned()
	return out
}

func ms(ns float64) int64 { return int64(ns / float64(time.Millisecond)) }

func says(out api.RetryExplanation, last api.PlannedAttempt, p job.Policy) string {
	span := func(ms int64) string { // in years where nanoseconds cannot tell it
		const year = 365 * 24 * int64(time.Hour/time.Millisecond)
		if ms > 100*year {
			return fmt.Sprintf("%d years", ms/year)
		}
		return sentence.Roughly(time.Duration(ms) * time.Millisecond)
	}
	between := fmt.Sprintf("%s to %s after the first", span(last.EarliestMS), span(last.LatestMS))
	if last.EarliestMS == last.LatestMS {
		between = span(last.LatestMS) + " after the first"
	}
	switch {
	case out.Ends == "never":
		return fmt.Sprintf("Attempts go on without end; the %s comes %s, and the next %s later.", ordinal(last.Attempt), between, sentence.Roughly(Base(p.Retry, last.Attempt)))
	case last.Attempt == 1:
		return "One attempt; a job that fails is dead at once."
	case out.Ends == string(job.TooOld):
		return fmt.Sprintf("%d attempts; the last one comes %s, and the next would come later than give_up_after (%s).", last.Attempt, between, p.Retry.GiveUpAfter)
	}
	return fmt.Sprintf("%d attempts; the last one comes %s.", last.Attempt, between)
}

// ordinal writes 1st, 2nd, 3rd, 4th.
func ordinal(n int) string {
	suffix := "th"
	if n%100 < 11 || n%100 > 13 {
		switch n % 10 {
		case 1:
			suffix = "st"
		case 2:
			suffix = "nd"
		case 3:
			suffix = "rd"
		}
	}
	return fmt.Sprintf("%d%s", n, suffix)
}
