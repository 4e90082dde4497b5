package config

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"humblemule.example/api"
	"humblemule.example/internal/check"
	"humblemule.example/internal/core/cron"
	"humblemule.example/internal/nearest"
	"humblemule.example/internal/post"
	"humblemule.example/internal/reach"
	"humblemule.example/internal/secrets"
	"humblemule.example/job"
)

var sections = []string{"service", "retention", "triage", "queues", "tasks", "schedules", "hooks", "endpoints", "alerts", "secrets", "calls", "mail", "commands", "backups", "empty"}

// File is what a set-up file holds: what a load of it defines, and with what the service
// is started.
type File struct {
	api.Setup
	// Backups say when the service makes backups by itself.
	Backups api.BackupRules
	// Secrets are what the service may use by name; no load of the file gives them to it.
	Secrets map[string]secrets.Secret
	// Calls say what the service may call; no load of the file gives them to it either.
	Calls reach.Rules
	// Mail says by which server mail goes out; it comes from the file alone too.
	Mail post.Server
	// Commands are shell commands that alerts may run, by name; they come from the file alone too.
	Commands map[string]string
	service  map[string]located
}

// ReadSetup reads a set-up file. All that is wrong with it is told at once, each with its
// line, its column and the nearest name.
func ReadSetup(path string) (f File, err error) {
	raw, err := os.ReadFile(path)
	if err != nil {
		return f, fmt.Errorf("the set-up file cannot be read: %w", err)
	}
	return ParseSetup(path, raw)
}

// ParseSetup reads what a set-up file holds; path names it in what is wrong.
func ParseSetup(path string, raw []byte) (f File, err error) {
	if err := bounded(path, raw); err != nil {
		return f, err
	}
	file, err := parser.ParseBytes(raw, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		return f, misread(path, err)
	}
	r := setupReader{faults: faults{path: path}}
	for i, doc := range file.Docs {
		if i > 0 && doc.Body != nil {
			r.at(doc.Body, "the file holds a second document; put everything into one")
			continue
		}
		if doc.Body != nil {
			r.document(r.resolved(doc.Body, anchors{}), &f)
		}
	}
	return f, r.err()
}

// setupReader reads a set-up and gathers what is wrong with it.
type setupReader struct{ faults }

func (r *setupReader) at(n ast.Node, format string, args ...any) {
	p := n.GetToken().Position
	r.add(word{line: p.Line, column: p.Column}, format, args...)
}

// entry is a name of a mapping with its value.
type entry struct {
	name       string
	key, value ast.Node
}

// entries gives what a mapping holds; names that stand twice are told.
func (r *setupReader) entries(n ast.Node, what string) (all []entry) {
	var values []*ast.MappingValueNode
	switch m := n.(type) {
	case *ast.MappingNode:
		values = m.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{m}
	case *ast.NullNode:
		return nil
	default:
		r.at(n, "%s is not a mapping of names to values", what)
		return nil
	}
	for _, v := range values {
		name := v.Key.GetToken().Value
		if slices.ContainsFunc(all, func(e entry) bool { return e.name == name }) {
			r.at(v.Key, "%s appears twice in %s", name, what)
			continue
		}
		all = append(all, entry{name, v.Key, v.Value})
	}
	return all
}

func (r *setupReader) document(body ast.Node, f *File) {
	for _, e := range r.entries(body, "the file") {
		switch e.name {
		case "queues":
			f.Queues = named(r, e, (*api.Defaults).CheckQueue)
		case "tasks":
			f.Tasks = named(r, e, (*api.Defaults).CheckTask)
		case "schedules":
			f.Schedules = named(r, e, checkSchedule)
		case "hooks":
			f.Hooks = named(r, e, (*api.Hook).Check)
		case "mail":
			read(r, e, &f.Mail, f.Mail.Check)
		case "alerts":
			f.Alerts = new(api.Alerts)
			read(r, e, f.Alerts, f.Alerts.Check)
		case "commands":
			f.Commands = r.commands(e)
		case "calls":
			read(r, e, &f.Calls, f.Calls.Check)
		case "endpoints":
			f.Endpoints = named(r, e, (*api.Endpoint).Check)
		case "secrets":
			f.Secrets = named(r, e, (*secrets.Secret).Check)
			for name, s := range f.Secrets {
				if s.File != "" && !filepath.IsAbs(s.File) {
					s.File = filepath.Join(filepath.Dir(r.path), s.File)
					f.Secrets[name] = s
				}
			}
		case "service":
			f.service = r.service(e)
		case "retention":
			f.Retention = new(api.Retention)
			if read(r, e, f.Retention, f.Retention.Check); *f.Retention == (api.Retention{}) {
				f.Retention = nil
			}
		case "backups":
			read(r, e, &f.Backups, func() []job.FieldError { return checkBackups(&f.Backups) })
			if f := &f.Backups.Folder; *f != "" && !filepath.IsAbs(*f) {
				*f = filepath.Join(filepath.Dir(r.path), *f)
			}
		case "empty":
			switch word := e.value.GetToken().Value; word {
			case "true", "false":
				f.Empty = word == "true"
			default:
				r.at(e.value, "empty is true or false")
			}
		case "triage":
			f.Triage = r.triage(e)
		default:
			r.at(e.key, "%q is not a section%s", e.name, orNearest(e.name, sections))
		}
	}
}

// checkSchedule answers what is wrong with a schedule; its payload's length is the
// service's to judge.
func checkSchedule(s *api.Schedule) []job.FieldError {
	return cron.Check(s, math.MaxInt, job.At(time.Now()))
}

// checkBackups answers what is wrong with the rules of backups.
func checkBackups(rules *api.BackupRules) []job.FieldError {
	wrong := rules.Check()
	if len(wrong) > 0 || !rules.Made() {
		return wrong
	}
	if _, field, err := cron.NewRule(&api.Schedule{Cron: rules.Cron, Every: rules.Every, Zone: rules.Zone}, 0); err != nil {
		wrong = append(wrong, job.FieldError{Field: field, Message: err.Error()})
	}
	return wrong
}

// named reads a section that has something under each of its names.
func named[T any](r *setupReader, section entry, wrong func(*T) []job.FieldError) map[string]T {
	all := map[string]T{}
	for _, e := range r.entries(section.value, section.name) {
		for _, w := range check.Name(e.name, e.name) {
			r.at(e.key, "%s", w.Message)
		}
		one := new(T)
		read(r, e, one, func() []job.FieldError { return wrong(one) })
		all[e.name] = *one
	}
	return all
}

// commands reads shell commands by their names.
func (r *setupReader) commands(section entry) map[string]string {
	all := map[string]string{}
	for _, e := range r.entries(section.value, section.name) {
		for _, w := range check.Name(e.name, e.name) {
			r.at(e.key, "%s", w.Message)
		}
		text, is := e.value.(*ast.StringNode)
		if !is || strings.TrimSpace(text.Value) == "" {
			r.at(e.value, "%s is not a shell command; write it as a text", e.name)
			continue
		}
		all[e.name] = text.Value
	}
	return all
}

// triage reads rules of triage, a list.
func (r *setupReader) triage(section entry) (all []api.TriageRule) {
	list, isList := section.value.(*ast.SequenceNode)
	if !isList {
		r.at(section.value, "triage is not a list of rules; begin each with a -")
		return nil
	}
	for i, n := range list.Values {
		rule := new(api.TriageRule)
		at := entry{fmt.Sprintf("triage[%d]", i), n, n}
		read(r, at, rule, func() (wrong []job.FieldError) {
			for _, w := range api.CheckTriage([]api.TriageRule{*rule}) {
				w.Field = strings.TrimPrefix(w.Field, "triage[0].")
				wrong = append(wrong, w)
			}
			return wrong
		})
		all = append(all, *rule)
	}
	if len(all) > api.MaxTriageRules {
		r.at(section.key, "%s", api.CheckTriage(all)[0].Message)
	}
	return all
}

// read reads a mapping into a value that is an object in JSON, and checks it.
func read[T any](r *setupReader, of entry, into *T, check func() []job.FieldError) {
	before := len(r.all)
	r.known(of, reflect.TypeFor[T]())
	if !isMapping(of.value) {
		return
	}
	var value any
	if err := yaml.NodeToValue(of.value, &value); err != nil {
		r.at(of.value, "cannot be read: %s", plainly(err))
		return
	}
	raw, err := json.Marshal(value)
	if err != nil {
		r.at(of.value, "cannot be read: %v", err)
		return
	}
	d := json.NewDecoder(bytes.NewReader(raw))
	d.UseNumber()                          // no number of a payload passes through a float
	if err := d.Decode(into); err != nil { // names that are not known were told
		var wrong *json.UnmarshalTypeError
		if errors.As(err, &wrong) {
			field := strings.TrimPrefix(wrong.Field, "Rules.")
			r.at(r.find(of, strings.Split(field, ".")), "%s is a %s; give %s", field, wrong.Value, kindOf(wrong.Type))
		} else {
			r.at(r.faulty(of, err), "%v", err)
		}
		return
	}
	if len(r.all) > before && reflect.ValueOf(*into).IsZero() {
		return
	}
	for _, w := range check() {
		r.at(r.find(of, strings.Split(w.Field, ".")), "%s %s", w.Field, w.Message)
	}
}

// plainly is what an error says, without the lines of the file that it shows.
func plainly(err error) string {
	var at yaml.Error
	if errors.As(err, &at) {
		return at.GetMessage()
	}
	return err.Error()
}

// known tells of names that a type has no field for, with the nearest one it has.
func (r *setupReader) known(of entry, t reflect.Type) {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	list, isList := of.value.(*ast.SequenceNode)
	switch {
	case t.Kind() == reflect.Slice && isList:
		for i, n := range list.Values {
			r.known(entry{fmt.Sprintf("%s[%d]", of.name, i), n, n}, t.Elem())
		}
		return
	case t.Kind() == reflect.Map && isMapping(of.value) && t.Elem().Kind() == reflect.Struct:
		for _, e := range r.entries(of.value, of.name) {
			r.known(of.within(e), t.Elem())
		}
		return
	case t.Kind() != reflect.Struct:
		return
	}
	fields := map[string]reflect.Type{}
	gatherFields(t, fields)
	for _, e := range r.entries(of.value, of.name) {
		field, known := fields[e.name]
		if !known {
			r.at(e.key, "%s has no setting %q%s", of.name, e.name, orNearest(e.name, keysOf(fields)))
			continue
		}
		r.known(of.within(e), field)
	}
}

// within names an entry by what it stands in, unless that is the file.
func (of entry) within(e entry) entry {
	if of.name != wholeFile {
		e.name = of.name + "." + e.name
	}
	return e
}

// gatherFields are the fields of a type by their names in JSON.
func gatherFields(t reflect.Type, fields map[string]reflect.Type) {
	for i := range t.NumField() {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if f.Anonymous && name == "" {
			gatherFields(f.Type, fields)
		} else if name != "" {
			fields[name] = f.Type
		}
	}
}

// find finds the value of a field that is named by its path, or what comes nearest to it.
func (r *setupReader) find(of entry, path []string) ast.Node {
	at := of.key
	value := of.value
	for len(path) > 0 {
		found := 0 // names may hold points themselves
		if isMapping(value) {
			for _, e := range r.entries(value, of.name) {
				for n := len(path); n > found; n-- {
					name, index, indexed := strings.Cut(strings.Join(path[:n], "."), "[")
					if e.name != name {
						continue
					}
					at, value, found = e.value, e.value, n
					if list, isList := value.(*ast.SequenceNode); isList && indexed {
						if i, err := strconv.Atoi(strings.TrimSuffix(index, "]")); err == nil && i < len(list.Values) {
							at, value = list.Values[i], list.Values[i]
						}
					}
				}
			}
		}
		if found == 0 {
			break
		}
		path = path[found:]
	}
	return at
}

// faulty finds the value that a decoder's error quotes, such as a duration that is none.
func (r *setupReader) faulty(of entry, err error) ast.Node {
	for _, e := range r.entries(of.value, of.name) {
		if text := e.value.GetToken().Value; text != "" && strings.Contains(err.Error(), fmt.Sprintf("%q", text)) {
			return e.value
		}
		if isMapping(e.value) {
			if at := r.faulty(e, err); at != e.key {
				return at
			}
		}
	}
	return of.key
}

func isMapping(n ast.Node) bool {
	return n.Type() == ast.MappingType || n.Type() == ast.MappingValueType
}

// kindOf says which kind of value a type takes.
func kindOf(t reflect.Type) string {
	switch t.Kind() {
	case reflect.Int, reflect.Int64:
		return "a whole number"
	case reflect.Uint64:
		return "a whole number from 0 on"
	case reflect.Float64:
		return "a number"
	case reflect.Slice:
		return "a list"
	case reflect.Map, reflect.Struct:
		return "a mapping"
	}
	return "a text"
}

func keysOf[V any](all map[string]V) []string { return slices.Sorted(maps.Keys(all)) }

func orNearest(name string, names []string) string {
	if n := nearest.To(name, names); n != "" {
		return "; the nearest is " + n
	}
	return "; there are " + strings.Join(names, ", ")
}
