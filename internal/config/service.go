package config

import (
	"cmp"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"humblemule.example/api"
	"humblemule.example/internal/fields"
)

// Service is what a service is started with. It comes, each setting by itself, from a
// flag, else from a variable, else from the section service of the set-up file, else it
// is as built in.
type Service struct {
	Data, Listen, Tokens, TLSCert, TLSKey string
	// MaxPayload is the longest payload of a job, in bytes.
	MaxPayload int
	// MinFree is how many bytes must be free for jobs to be taken in, MaxBodies how many
	// the bodies of all requests under way may have, and MemoryLimit how many the program
	// tries to stay below; 0 for what the machine suggests.
	MinFree, MaxBodies, MemoryLimit int64
	// MetricsListen is an address at which figures are answered, and nothing else; LogRequests says
	// that each request is logged.
	MetricsListen string
	LogRequests   bool
	// OpenHooks says that hooks without a proof take deliveries from other machines.
	OpenHooks bool
	// BasePath is under which path all is answered, without a slash at its end; Forwarders are the
	// proxies before the service, those of its socket where ForwardersUnix.
	BasePath       string
	Forwarders     []netip.Prefix
	ForwardersUnix bool
	// DropOlder says that a file of an older version is not kept when it is converted.
	DropOlder bool
	// Settings tells each of them with where it comes from.
	Settings []api.Setting
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
	{"data", "hmule.db", "data file; created if it does not exist", true, text(func(s *Service) *string { return &s.Data })},
	{"listen", "127.0.0.1:6853", "address to answer at, or unix:PATH for a socket", false, text(func(s *Service) *string { return &s.Listen })},
	{"tokens", "", "file of tokens; every request needs one then, and other addresses are allowed", true, text(func(s *Service) *string { return &s.Tokens })},
	{"tls_cert", "", "certificate, with its chain, as PEM", true, text(func(s *Service) *string { return &s.TLSCert })},
	{"tls_key", "", "its key, as PEM", true, text(func(s *Service) *string { return &s.TLSKey })},
	{"max_payload", "128KiB", "longest payload of a job, 1KiB to 8MiB", false, func(s *Service, value string) error {
		n, err := size(value, 1<<10, 8<<20)
		s.MaxPayload = int(n)
		return err
	}},
	{"min_free", "", "free space on the disk below which no job is accepted, 1MiB or more; default: 2 % of the disk or 256MiB, whichever is smaller", false, bytesOf(func(s *Service) *int64 { return &s.MinFree }, 1<<20)},
	{"max_bodies", "256MiB", "bytes of all requests under way, 16MiB or more", false, bytesOf(func(s *Service) *int64 { return &s.MaxBodies }, 16<<20)},
	{"memory_limit", "", "memory that the service tries to stay below, 64MiB or more; default: 70 % of the memory", false, bytesOf(func(s *Service) *int64 { return &s.MemoryLimit }, 64<<20)},
	{"keep_older", "yes", "yes or no: whether a data file of an older version is kept beside the one that it is converted to", false, yesOrNo(func(s *Service, yes bool) { s.DropOlder = !yes })},
	{"log_requests", "no", "yes or no: whether each request is logged, with its caller, status, time and bytes", false, yesOrNo(func(s *Service, yes bool) { s.LogRequests = yes })},
	{"base_path", "", "path under which everything is answered, such as /jobs, where a proxy shares one name among several services", false, basePath},
	{"forwarders", "", "addresses or networks of proxies whose X-Forwarded-For, -Host and -Proto are believed, parted by commas; unix for those of a socket", false, forwarders},
	{"open_hooks", "no", "yes or no: whether hooks whose proof is none take deliveries from other machines, so that anybody can enqueue jobs by them", false, yesOrNo(func(s *Service, yes bool) { s.OpenHooks = yes })},
	{"metrics_listen", "", "an address of its own for /metrics, without tokens", false, text(func(s *Service) *string { return &s.MetricsListen })},
}

var pathForm = regexp.MustCompile(`^(/[A-Za-z0-9._~-]+)+$`)

func basePath(s *Service, value string) error {
	value = strings.TrimSuffix(value, "/")
	switch {
	case value == "":
	case !strings.HasPrefix(value, "/"):
		return fmt.Errorf("%q does not begin with a slash; write it as /%s", value, value)
	case !pathForm.MatchString(value) || slices.ContainsFunc(strings.Split(value, "/"), func(part string) bool { return part == "." || part == ".." }):
		return fmt.Errorf("%q is not a valid path; write it as /jobs, of letters, digits and . _ ~ -", value)
	}
	s.BasePath = value
	return nil
}

func forwarders(s *Service, value string) error {
	s.Forwarders, s.ForwardersUnix = nil, false
	for word := range strings.SplitSeq(value, ",") {
		switch word = strings.TrimSpace(word); {
		case word == "":
		case word == "unix":
			s.ForwardersUnix = true
		default:
			network, err := netip.ParsePrefix(word)
			if at, is := netip.ParseAddr(word); is == nil {
				network, err = netip.PrefixFrom(at, at.BitLen()), nil
			}
			if err != nil {
				return fmt.Errorf("%q is not an address or a network; write it as 10.0.0.5 or 10.0.0.0/24", word)
			}
			s.Forwarders = append(s.Forwarders, network.Masked())
		}
	}
	return nil
}

func yesOrNo(set func(s *Service, yes bool)) func(*Service, string) error {
	return func(s *Service, value string) error {
		set(s, value == "yes")
		if value != "yes" && value != "no" {
			return fmt.Errorf("%q is neither yes nor no", value)
		}
		return nil
	}
}

// bytesOf reads a number of bytes of at least so many into a field; empty leaves it.
func bytesOf(field func(s *Service) *int64, least int64) func(*Service, string) error {
	return func(s *Service, value string) (err error) {
		if value == "" {
			return nil
		}
		*field(s), err = size(value, least, 1<<50)
		return err
	}
}

func text(field func(s *Service) *string) func(*Service, string) error {
	return func(s *Service, value string) error {
		*field(s) = value
		return nil
	}
}

var units = []struct {
	name  string
	bytes int64
}{{"KiB", 1 << 10}, {"MiB", 1 << 20}, {"GiB", 1 << 30}, {"TiB", 1 << 40}}

// size reads a number of bytes within bounds, such as 200000, 64KiB or 2GiB.
func size(value string, least, most int64) (int64, error) {
	number, unit := value, int64(1)
	for _, u := range units {
		if rest, has := strings.CutSuffix(value, u.name); has {
			number, unit = rest, u.bytes
		}
	}
	n, err := strconv.ParseInt(number, 10, 64)
	switch {
	case err != nil:
		return 0, fmt.Errorf("%q is not a valid size; write it as 200000, 64KiB or 2MiB", value)
	case n < 0 || n > most || n*unit < least || n*unit > most:
		return 0, fmt.Errorf("%s is outside %s to %s", value, sizeText(least), sizeText(most))
	}
	return n * unit, nil
}

func sizeText(n int64) string {
	for i := len(units) - 1; i >= 0; i-- {
		if n >= units[i].bytes {
			return fmt.Sprint(n/units[i].bytes) + units[i].name
		}
	}
	return fmt.Sprint(n)
}

// Flag is a setting of the service as a command line has it.
type Flag struct{ Name, BuiltIn, Usage string }

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
		v := api.Setting{Of: "service", Name: setting.name, From: api.SettingBuiltIn}
		value := setting.builtIn
		in := file.service[setting.name]
		flag, isGiven := given[setting.flag()]
		switch fromEnv := os.Getenv(setting.variable()); {
		case isGiven:
			value, v.From, v.Where = flag, api.SettingByFlag, "--"+setting.flag()
		case fromEnv != "":
			value, v.From, v.Where = fromEnv, api.SettingByVariable, setting.variable()
		case in.at != "":
			value, v.From, v.Where = in.value, api.SettingByFile, in.at
		}
		if err := setting.set(&s, value); err != nil {
			return s, fmt.Errorf("%s: %w", cmp.Or(v.Where, setting.name), err)
		}
		v.Value = fields.ValueOf(value)
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
			r.at(e.value, "%s is not a text", e.name)
			continue
		}
		value := e.value.GetToken().Value
		switch {
		case !known:
			r.at(e.key, "the service has no setting %q%s", e.name, orNearest(e.name, keysOf(names)))
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
