// Package secrets gives what is secret by name: of the environment, or of files that only the service
// reads. It says which of them may be used by what; nothing of it can be set through the API, and no value
// leaves it but to whoever proves or signs with it.
package secrets

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"sync/atomic"

	"humblemule.example/internal/check"
	"humblemule.example/internal/nearest"
)

// Secret says where a secret is, and what may use it.
type Secret struct {
	// Env is a variable of the environment, or File a file that holds it; what ends a line at its end is not part
	// of it. One of the two is given.
	Env  string `json:"env,omitzero"`
	File string `json:"file,omitzero"`
	// Hooks are the hooks that may prove by it, Tasks the tasks whose calls may show it or sign with it, and
	// Hosts the hosts that it may be shown to.
	Hooks []string `json:"hooks,omitzero"`
	Tasks []string `json:"tasks,omitzero"`
	Hosts []string `json:"hosts,omitzero"`
}

// Check answers what is wrong with a secret, as it stands in a file.
func (s *Secret) Check() []check.FieldError {
	var c check.List
	switch {
	case s.Env == "" && s.File == "":
		c.Add("env", "is missing; name a variable of the environment that holds the secret, or a file")
	case s.Env != "" && s.File != "":
		c.Add("file", "cannot be combined with env; give one of the two")
	}
	if len(s.Hooks)+len(s.Tasks) == 0 {
		c.Add("hooks", "are missing, and so are tasks: nothing could use the secret")
	}
	if len(s.Tasks) > 0 && len(s.Hosts) == 0 {
		c.Add("hosts", "are missing: a call could show the secret to nobody")
	}
	for field, names := range map[string][]string{"hooks": s.Hooks, "tasks": s.Tasks} {
		for i, name := range names {
			c.Name(fmt.Sprintf("%s[%d]", field, i), name)
		}
	}
	return c
}

// longest is how many bytes a secret may have.
const longest = 16 << 10

// value reads a secret.
func (s *Secret) value() ([]byte, error) {
	raw := []byte(os.Getenv(s.Env))
	if s.File != "" {
		f, err := os.Open(s.File)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		if raw, err = io.ReadAll(io.LimitReader(f, longest+1)); err != nil {
			return nil, err
		}
	}
	raw = bytes.TrimRight(raw, "\r\n")
	switch {
	case len(raw) == 0 && s.Env != "":
		return nil, fmt.Errorf("the variable %s is empty", s.Env)
	case len(raw) == 0:
		return nil, fmt.Errorf("%s is empty", s.File)
	case len(raw) > longest:
		return nil, fmt.Errorf("%s is longer than %d bytes", s.File, longest)
	}
	return raw, nil
}

// Vault holds the secrets of a service. Its methods may be called from any goroutine.
type Vault struct {
	all atomic.Pointer[map[string]*held]
}

type held struct {
	Secret
	value []byte
	err   error
}

// New gives a vault that holds secrets by name.
func New(all map[string]Secret) *Vault {
	v := new(Vault)
	v.Set(all)
	return v
}

// Set makes the vault hold other secrets, each as it is now.
func (v *Vault) Set(all map[string]Secret) {
	read := map[string]*held{}
	for name, s := range all {
		h := &held{Secret: s}
		h.value, h.err = s.value()
		read[name] = h
	}
	v.all.Store(&read)
}

// Unreadable tells by name of secrets that cannot be read, and why.
func (v *Vault) Unreadable() (all []string) {
	for name, h := range *v.all.Load() {
		if h.err != nil {
			all = append(all, fmt.Sprintf("secret %s cannot be read: %v", name, h.err))
		}
	}
	slices.Sort(all)
	return all
}

var errUnknown = errors.New("is not a secret of this service")

// find finds a secret that something may use.
func (v *Vault) find(name, of, user string, users func(*Secret) []string) (*held, error) {
	all := *v.all.Load()
	h := all[name]
	if h == nil {
		names := make([]string, 0, len(all))
		for n := range all {
			names = append(names, n)
		}
		if near := nearest.To(name, names); near != "" {
			return nil, fmt.Errorf("%q %w; the nearest is %s", name, errUnknown, near)
		}
		return nil, fmt.Errorf("%q %w; name it under secrets in the file that the service is started with", name, errUnknown)
	}
	if !slices.Contains(users(&h.Secret), user) {
		return nil, fmt.Errorf("secret %s is not for %s %s; name it among the %ss of the secret", name, of, user, of)
	}
	return h, nil
}

// ForHook says why a hook may not prove its senders by a secret; nil where it may. Whether it can be read
// is told by [Vault.OfHook].
func (v *Vault) ForHook(name, hook string) error {
	_, err := v.find(name, "hook", hook, func(s *Secret) []string { return s.Hooks })
	return err
}

// OfHook gives a secret by which a hook proves its senders.
func (v *Vault) OfHook(name, hook string) ([]byte, error) {
	h, err := v.find(name, "hook", hook, func(s *Secret) []string { return s.Hooks })
	if err != nil {
		return nil, err
	}
	if h.err != nil {
		return nil, fmt.Errorf("secret %s cannot be read: %w", name, h.err)
	}
	return h.value, nil
}

// ForTask says why the calls of a task may not use a secret; nil where they may.
func (v *Vault) ForTask(name, task string) error {
	_, err := v.find(name, "task", task, func(s *Secret) []string { return s.Tasks })
	return err
}

// OfCall gives a secret that a call of a task shows to a host, or signs with.
func (v *Vault) OfCall(name, task, host string) ([]byte, error) {
	h, err := v.find(name, "task", task, func(s *Secret) []string { return s.Tasks })
	switch {
	case err != nil:
		return nil, err
	case !slices.ContainsFunc(h.Hosts, func(o string) bool { return strings.EqualFold(o, host) }):
		return nil, fmt.Errorf("secret %s is not for host %s", name, host)
	case h.err != nil:
		return nil, fmt.Errorf("secret %s cannot be read: %w", name, h.err)
	}
	return h.value, nil
}
