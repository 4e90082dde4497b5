package config

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"humblemule/core/job"
)

// Service is what a service is started with. It comes, each setting by itself, from a
// flag, else from a variable, else from the section service of the set-up file, else it
// is as built in.
type Service struct {
	Data, Listen, Tokens, TLSCert, TLSKey string
	// MaxPayload is the longest payload of a job, in bytes.
	MaxPayload int
	// Settings tells each of them with where it comes from.
	Settings []job.Setting
}

// serviceSetting is one of them. Its flag has its name with - for _.
type serviceSetting struct {
	name, builtIn, says string
	isPath              bool
	set                 func(s *Service, value string) error
}

func (s serviceSetting) variable() string { return "HMULE_" + strings.ToUpper(s.name) }
func (s serviceSetting) flag() string     { return strings.ReplaceAll(s.name, "_", "-") }

var serviceSettings = []serviceSetting{
	{"data", "hmule.db", "data file; created where there is none", true, text(func(s *Service) *string { return &s.Data })},
	{"listen", "127.0.0.1:6853", "address to answer at", false, text(func(s *Service) *string { return &s.Listen })},
	{"tokens", "", "file of tokens that callers need; permits other addresses", true, text(func(s *Service) *string { return &s.Tokens })},
	{"tls_cert", "", "certificate, with its chain, as PEM", true, text(func(s *Service) *string { return &s.TLSCert })},
	{"tls_key", "", "its key, as PEM", true, text(func(s *Service) *string { return &s.TLSKey })},
	{"max_payload", "128KiB", "longest payload of a job, 1KiB to 8MiB", false, func(s *Service, value string) (err error) {
		s.MaxPayload, err = size(value)
		return err
	}},
}

func text(field func(s *Service) *string) func(*Service, string) error {
	return func(s *Service, value string) error {
		*field(s) = value
		return nil
	}
}

// size reads a number of bytes, such as 200000, 64KiB or 2MiB.
func size(value string) (int, error) {
	number, unit := value, 1
	for name, bytes := range map[string]int{"KiB": 1 << 10, "MiB": 1 << 20} {
		if rest, has := strings.CutSuffix(value, name); has {
			number, unit = rest, bytes
		}
	}
	n, err := strconv.Atoi(number)
	if err != nil {
		return 0, fmt.Errorf("%q is no size; write it as 200000, 64KiB or 2MiB", value)
	}
	if n < 0 || n > 8<<20 || n*unit < 1<<10 || n*unit > 8<<20 {
		return 0, fmt.Errorf("%s is outside 1KiB to 8MiB", value)
	}
	return n * unit, nil
}

// Flag is a setting of the service as a command line has it.
type Flag struct{ Name, BuiltIn, Says string }

// Flags are the settings of the service as a command line has them.
func Flags() (all []Flag) {
	for _, s := range serviceSettings {
		all = append(all, Flag{s.flag(), s.builtIn, s.says + " (" + s.variable() + ")"})
	}
	return all
}

// located is a value of the file, and where it stands.
type located struct {
	value string
	at    string
}

// Resolve says with what a service is started: given are the flags, by their names, and
// file is what the set-up file holds, which may be the zero File.
func Resolve(given map[string]string, file File) (s Service, err error) {
	for _, setting := range serviceSettings {
		v := job.Setting{Of: "service", Name: setting.name, From: job.SettingBuiltIn}
		value := setting.builtIn
		in := file.service[setting.name]
		flag, isGiven := given[setting.flag()]
		switch fromEnv := os.Getenv(setting.variable()); {
		case isGiven:
			value, v.From, v.Where = flag, job.SettingByFlag, "--"+setting.flag()
		case fromEnv != "":
			value, v.From, v.Where = fromEnv, job.SettingByVariable, setting.variable()
		case in.at != "":
			value, v.From, v.Where = in.value, job.SettingByFile, in.at
		}
		if err := setting.set(&s, value); err != nil {
			return s, fmt.Errorf("%s: %w", cmp.Or(v.Where, setting.name), err)
		}
		v.Value = job.SettingValue(value)
		s.Settings = append(s.Settings, v)
	}
	return s, nil
}

// service reads the section of that name. Paths are seen from the file's folder.
func (r *setupReader) service(section entry) map[string]located {
	all := map[string]located{}
	names := map[string]serviceSetting{}
	for _, s := range serviceSettings {
		names[s.name] = s
	}
	for _, e := range r.entries(section.value, section.name) {
		setting, known := names[e.name]
		switch e.value.(type) {
		case *ast.MappingNode, *ast.MappingValueNode, *ast.SequenceNode, *ast.NullNode:
			r.at(e.value, "%s is no text", e.name)
			continue
		}
		value := e.value.GetToken().Value
		switch {
		case !known:
			r.at(e.key, "the service has no setting %q%s", e.name, nearest(e.name, keysOf(names)))
			continue
		case setting.isPath && value != "" && !filepath.IsAbs(value):
			value = filepath.Join(filepath.Dir(r.path), value)
		}
		if err := setting.set(new(Service), value); err != nil {
			r.at(e.value, "%v", err)
			continue
		}
		p := e.value.GetToken().Position
		all[e.name] = located{value, fmt.Sprintf("%s:%d:%d", r.path, p.Line, p.Column)}
	}
	return all
}
