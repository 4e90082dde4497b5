// Package transfer takes in what another service has exported: whole jobs, with what they have gone
// through there. Each is taken in once, however often its line comes, since what it has become is
// kept in the transaction that takes it in. The set-up of an export is for the room of settings, and
// to write an export for that of questions.
//
// It keeps nothing; of which stores jobs were imported is a part of the memory.
package transfer

import (
	"context"
	"errors"
	"fmt"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/read"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Importer takes jobs in. Its methods may be called from any goroutine.
type Importer struct {
	c *commit.Committer
	// full says why no job is taken in; empty while there is room.
	full func() string
}

// New gives an importer, which asks full whether there is room.
func New(c *commit.Committer, full func() string) *Importer { return &Importer{c, full} }

// BeginImport begins the import of an export, or tells how far it has come.
func (im *Importer) BeginImport(ctx context.Context, req api.ImportRequest) (told api.Import, err error) {
	if err := scope.Whole(ctx); err != nil {
		return told, err
	}
	if err := job.Wrong("nothing was imported", req.Check()); err != nil {
		return told, err
	}
	head, keep := req.Export, req.IDs == api.IDsKeep
	detail := map[string]string{"name": head.Store, "text": "new ids"}
	if keep {
		detail["text"] = "their ids"
	}
	check := func(v *commit.View) (commit.Write, error) {
		if was := v.Imports.Find(head.Store); was != nil {
			told = read.TellImport(was)
			return nil, mayGoOn(was, req.IDs, head.Store)
		}
		if err := mayBegin(v, keep, &head); err != nil {
			return nil, err
		}
		row := store.Import{Store: head.Store, MadeAt: v.Now, MadeBy: v.By}
		if keep {
			row.Below = head.Through + api.IDsApart
		}
		told = read.TellImport(&memory.Import{Import: row})
		return func(tx *commit.Tx) error {
			if keep {
				tx.Facts.Raise(row.Below)
			}
			return tx.Imports.Add(row)
		}, nil
	}
	if req.DryRun {
		return told, im.c.Do(ctx, func(v *commit.View) (commit.Write, error) {
			_, err := check(v)
			return nil, err
		})
	}
	return told, im.c.Record(ctx, "import", 0, detail, func(v *commit.View) (commit.Act, error) {
		write, err := check(v)
		if err != nil || write == nil {
			return nil, err
		}
		return func(tx *commit.Tx, _ int64) error { return write(tx) }, nil
	})
}

func mayGoOn(was *memory.Import, ids, id string) error {
	is := read.TellImport(was)
	if ids == "" || ids == is.IDs {
		return nil
	}
	return job.Wrong("nothing was imported", []job.FieldError{{Field: "ids", Message: fmt.Sprintf("must be %s, as when the import of store %s began", is.IDs, id)}})
}

func mayBegin(v *commit.View, keep bool, head *api.ExportHead) error {
	var wrong []job.FieldError
	switch {
	case v.Imports.Len() >= memory.MostImports:
		wrong = []job.FieldError{{Field: "export.store", Message: fmt.Sprintf("would be one of more than %d of which jobs were imported", memory.MostImports)}}
	case keep && v.Imports.Store() == head.Store:
		wrong = []job.FieldError{{Field: "ids", Message: "cannot be kept: the export is of this very service; import it with new ids"}}
	case keep && !v.Imports.IDsFree():
		wrong = []job.FieldError{{Field: "ids", Message: "cannot be kept, since this service has given ids to jobs of its own; import with new ids, or into a service that has had no job"}}
	}
	return job.Wrong("nothing was imported", wrong)
}

// Import takes in lines of an export that has begun: jobs, and lines of logs. Each has its own
// answer; one that is wrong spoils no other. A dry run only checks.
func (im *Importer) Import(ctx context.Context, from string, lines []api.ExportLine, dry bool) (told api.Imported, err error) {
	told = api.Imported{IDs: []api.ImportedIDs{}, Refused: []api.ImportRefused{}}
	if err := scope.Whole(ctx); err != nil {
		return told, err
	}
	all := make([]*item, len(lines))
	for i := range lines {
		all[i] = im.prepare(i+1, &lines[i])
	}
	known := map[int64]bool{}
	for part := range parts(all) {
		if err := im.importPart(ctx, from, part, dry, known, &told); err != nil {
			return told, err
		}
	}
	return told, nil
}

// rowsAtOnce is how many rows one transaction of an import writes, about.
const rowsAtOnce = 400

// parts divides lines for transactions.
func parts(all []*item) func(yield func([]*item) bool) {
	return func(yield func([]*item) bool) {
		for len(all) > 0 {
			n, rows := 0, 0
			for n < len(all) && (n == 0 || rows < rowsAtOnce) {
				rows += all[n].rows
				n++
			}
			if !yield(all[:n]) {
				return
			}
			all = all[n:]
		}
	}
}

// importPart takes in some lines in one transaction.
func (im *Importer) importPart(ctx context.Context, from string, all []*item, dry bool, known map[int64]bool, told *api.Imported) error {
	var now api.Imported
	rows := 0
	for _, it := range all {
		rows += it.rows
	}
	err := im.c.DoRows(ctx, rows, func(v *commit.View) (commit.Write, error) {
		now = api.Imported{}
		source := v.Imports.Find(from)
		if source == nil && !dry {
			return nil, job.Fault(job.NotFound, "no import of store %s has begun; begin it first, nothing was imported", from)
		}
		if full := im.full(); full != "" && !dry {
			return nil, job.Fault(job.NoSpace, "%s; nothing of this part was imported", full)
		}
		jobs, logs, err := checkPart(v, source, from, all, known, &now)
		if err != nil || dry {
			now.Jobs = int64(len(jobs))
			return nil, err
		}
		return func(tx *commit.Tx) error { return takeIn(tx, from, jobs, logs, &now) }, nil
	})
	if err != nil {
		return err
	}
	told.Jobs, told.There, told.Short = told.Jobs+now.Jobs, told.There+now.There, told.Short+now.Short
	told.Refused = append(told.Refused, now.Refused...)
	for _, ids := range now.IDs {
		told.IDs = addIDs(told.IDs, ids)
	}
	if dry {
		for _, it := range all {
			known[it.id] = true
		}
	}
	return nil
}

// checkPart finds among lines the jobs that are to be taken in, and what belongs to logs. known are
// the jobs of a dry run so far.
func checkPart(v *commit.View, source *memory.Import, from string, all []*item, known map[int64]bool, now *api.Imported) (jobs, logs []*item, err error) {
	here := map[int64]bool{}
	for _, it := range all {
		is, wrong, err := it.check(v, source, from)
		switch {
		case err != nil:
			return nil, nil, err
		case wrong != nil:
			now.Refused = append(now.Refused, api.ImportRefused{Line: it.number, Job: it.id, Errors: wrong})
		case it.line.Job == nil:
			logs = append(logs, it)
		case is != 0:
			now.There++
			now.IDs = addIDs(now.IDs, api.ImportedIDs{First: it.id, Last: it.id, Job: is})
		case here[it.id] || known[it.id]:
			now.There++
		default:
			here[it.id] = true
			jobs = append(jobs, it)
		}
	}
	return jobs, logs, nil
}

// check tells what a line's job has become already, 0 where it is not here, or what is wrong with it.
func (it *item) check(v *commit.View, source *memory.Import, from string) (is int64, wrong []job.FieldError, err error) {
	if it.wrong != nil || it.line.Job == nil {
		return 0, it.wrong, nil
	}
	if is, err = becomes(v, source, from, it.id); is != 0 || err != nil {
		return is, nil, err
	}
	var p *job.Problem
	if err = it.canTakeIn(v, source); errors.As(err, &p) {
		return 0, p.Fields, nil
	}
	return 0, nil, err
}

// becomes tells what a job has become here; 0 where it is not here. Where the export is of this very
// service, those are here that were not removed.
func becomes(v *commit.View, source *memory.Import, from string, id int64) (int64, error) {
	if source != nil {
		if is, err := v.Store.ImportedAs(source.ID, id); is != 0 || err != nil {
			return is, err
		}
	}
	if v.Imports.Store() != from {
		return 0, nil
	}
	r, err := v.Store.Row(id)
	if r == nil || err != nil {
		return 0, err
	}
	return id, nil
}

// addIDs adds what ids have become to what others have.
func addIDs(all []api.ImportedIDs, more api.ImportedIDs) []api.ImportedIDs {
	if n := len(all); n > 0 && all[n-1].Last == more.First-1 && all[n-1].Job+(more.First-all[n-1].First) == more.Job {
		all[n-1].Last = more.Last
		return all
	}
	return append(all, more)
}
