package config

import (
	"bytes"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"humblemule.example/job"
)

// Token is an entry of a tokens file: whom a token is, what it may do, and the
// hash by which it is known. The token itself stands nowhere.
type Token struct {
	Name, Role, Hash string
	// Expires is from when on it is not good any more; 0 for never.
	Expires job.Time
}

// tokenMark begins every token, so that one that has leaked can be found.
const tokenMark = "hmule-token-"

// NewToken draws a token of 130 random bits.
func NewToken() string { return tokenMark + strings.ToLower(rand.Text()) }

type tokensFile struct {
	Tokens []struct {
		Name    word `yaml:"name"`
		Role    word `yaml:"role"`
		SHA256  word `yaml:"sha256"`
		Expires word `yaml:"expires"`
	} `yaml:"tokens"`
}

var (
	nameForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._@-]{0,63}$`)
	hashForm = regexp.MustCompile(`^[0-9a-f]{64}$`)
)

// ReadTokens reads a tokens file. roles are the words that a role may be.
func ReadTokens(path string, roles []string) ([]Token, error) {
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("the tokens file cannot be read: %w", err)
	}
	if err := bounded(path, raw); err != nil {
		return nil, err
	}
	var file tokensFile
	if err := yaml.NewDecoder(bytes.NewReader(raw), yaml.Strict()).Decode(&file); err != nil && !errors.Is(err, io.EOF) {
		return nil, misread(path, err)
	}
	wrong := faults{path: path}
	var all []Token
	for i, t := range file.Tokens {
		at := t.Name
		if at.line == 0 {
			at = t.Role
		}
		switch {
		case t.Name.text == "" || t.Role.text == "" || t.SHA256.text == "":
			wrong.add(at, "token %d lacks name, role or sha256; write one with: hmule token new", i+1)
		case !nameForm.MatchString(t.Name.text):
			wrong.add(t.Name, "%q is not a valid name of a token; use 1 to 64 of letters, digits, '.', '_', '@' and '-'", t.Name.text)
		case slices.ContainsFunc(all, func(o Token) bool { return o.Name == t.Name.text && o.Role != t.Role.text }):
			wrong.add(t.Name, "the name %s already has another role; a name says who did what, so take another one", t.Name.text)
		case tokensOf(all, t.Name.text) == mostTokens:
			wrong.add(t.Name, "the name %s appears a third time; two at once are enough to replace a token: remove the oldest", t.Name.text)
		case t.Name.text == "local":
			wrong.add(t.Name, "the name local means a service without tokens; take another")
		}
		if t.Role.text != "" && !slices.Contains(roles, t.Role.text) {
			wrong.add(t.Role, "%q is not a valid role; it is one of %s", t.Role.text, strings.Join(roles, ", "))
		}
		if t.SHA256.text != "" && !hashForm.MatchString(t.SHA256.text) {
			wrong.add(t.SHA256, "sha256 is 64 hexadecimal digits; write the entry with: hmule token new")
		}
		if slices.ContainsFunc(all, func(o Token) bool { return o.Hash == t.SHA256.text && o.Hash != "" }) {
			wrong.add(t.SHA256, "this sha256 appears twice; each entry needs its own token")
		}
		expires, err := expiryOf(t.Expires.text)
		if err != nil {
			wrong.add(t.Expires, "%v", err)
		}
		all = append(all, Token{t.Name.text, t.Role.text, t.SHA256.text, expires})
	}
	if len(all) == 0 && len(wrong.all) == 0 {
		return nil, fmt.Errorf("%s has no token, so nobody could use the service; add one with: hmule token new --tokens %s", path, path)
	}
	return all, wrong.err()
}

// expiryOf reads when a token expires: a day, at whose end, or a time.
func expiryOf(text string) (job.Time, error) {
	if text == "" {
		return 0, nil
	}
	if day, err := time.Parse(time.DateOnly, text); err == nil {
		return job.At(day.AddDate(0, 0, 1)), nil
	}
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return 0, fmt.Errorf("%q is not a valid day or time; write it as 2027-01-31, which means the end of that day in UTC, or as 2027-01-31T18:00:00Z", text)
	}
	return job.At(at), nil
}

// mostTokens is how many tokens a name may have at once, so that one can be handed out
// before the other is taken out.
const mostTokens = 2

func tokensOf(all []Token, name string) (n int) {
	for _, t := range all {
		if t.Name == name {
			n++
		}
	}
	return n
}

// TokenEntry is a token as its file holds it.
func TokenEntry(t Token) string {
	entry := fmt.Sprintf("  - name: %q\n    role: %s\n    sha256: %q\n", t.Name, t.Role, t.Hash)
	if t.Expires != 0 {
		entry += fmt.Sprintf("    expires: %q\n", t.Expires.Go().UTC().Format(time.RFC3339))
	}
	return entry
}

// AddToken adds an entry to a tokens file, which is made where there is none. A name may
// stand twice, with one role, while its token is being changed.
func AddToken(path string, t Token, roles []string) error {
	if !nameForm.MatchString(t.Name) || t.Name == "local" {
		return fmt.Errorf("%q is not a valid name of a token; use 1 to 64 of letters, digits, '.', '_', '@' and '-', and not local", t.Name)
	}
	raw, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	text := string(raw)
	if strings.TrimSpace(text) == "" {
		text = "tokens:\n"
	} else {
		known, err := ReadTokens(path, roles)
		if err != nil {
			return err
		}
		switch i := slices.IndexFunc(known, func(o Token) bool { return o.Name == t.Name }); {
		case i >= 0 && known[i].Role != t.Role:
			return fmt.Errorf("%s has %s as %s; a name has one role: take another name, or remove that entry first", path, t.Name, known[i].Role)
		case tokensOf(known, t.Name) == mostTokens:
			return fmt.Errorf("%s has two tokens of %s already; remove the one that is no longer used first", path, t.Name)
		}
	}
	if !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	// The new file takes the old one's place whole, so that a service that reads
	// it meanwhile never sees half of it.
	next := path + ".new"
	if err := os.WriteFile(next, []byte(text+TokenEntry(t)), 0o600); err != nil {
		return err
	}
	if _, err := ReadTokens(next, roles); err != nil {
		os.Remove(next)
		return fmt.Errorf("the entry does not fit behind what %s holds (%w); add it by hand:\n%s", path, err, TokenEntry(t))
	}
	return os.Rename(next, path)
}
