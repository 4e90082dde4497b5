package config

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"

	"github.com/goccy/go-yaml"

	"humblemule.example/internal/nearest"
	"humblemule.example/internal/sentence"
)

// Profile is a service that clients speak to, as the profiles file names it:
//
//	profiles:
//	  harbour:
//	    server: https://mule.saltmarrow.example
//	    token_file: /home/finch/.config/hmule/harbour.token
type Profile struct {
	Server string `yaml:"server"`
	// Token is sent to the service, and TokenFile holds it; one of the two.
	Token     string `yaml:"token"`
	TokenFile string `yaml:"token_file"`
}

// ProfilesPath is where the profiles of clients stand: HMULE_PROFILES, or hmule/profiles.yaml
// in the folder for settings of this account.
func ProfilesPath() (string, error) {
	if path := os.Getenv("HMULE_PROFILES"); path != "" {
		return path, nil
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("the folder of profiles is not known: %w; name the file by HMULE_PROFILES", err)
	}
	return filepath.Join(dir, "hmule", "profiles.yaml"), nil
}

// ReadProfile reads a profile. Files with tokens must be readable by their owner only.
func ReadProfile(name string) (p Profile, err error) {
	path, err := ProfilesPath()
	if err != nil {
		return p, err
	}
	all, err := readProfiles(path)
	if err != nil {
		return p, err
	}
	p, known := all[name]
	if !known {
		names := slices.Sorted(maps.Keys(all))
		return p, fmt.Errorf("%s has no profile %q%s", path, name, sentence.Perhaps(nearest.To(name, names)))
	}
	switch {
	case p.Server == "":
		return p, fmt.Errorf("%s: profile %s names no server; add server: http://127.0.0.1:6853", path, name)
	case p.Token != "" && p.TokenFile != "":
		return p, fmt.Errorf("%s: profile %s has both token and token_file; keep one of the two", path, name)
	case p.Token != "":
		return p, OwnerOnly(path)
	case p.TokenFile != "":
		return p, OwnerOnly(p.TokenFile)
	}
	return p, nil
}

func readProfiles(path string) (map[string]Profile, error) {
	raw, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is no profiles file %s; write one with\nprofiles:\n  NAME: {server: http://127.0.0.1:6853, token_file: PATH}", path)
	}
	if err != nil {
		return nil, err
	}
	var file struct {
		Profiles map[string]Profile `yaml:"profiles"`
	}
	if err := yaml.UnmarshalWithOptions(raw, &file, yaml.Strict()); err != nil {
		return nil, misread(path, err)
	}
	return file.Profiles, nil
}

// OwnerOnly refuses a file that others than its owner may read. Windows keeps rights in
// another way, and they are not looked at there.
func OwnerOnly(path string) error {
	at, err := os.Stat(path)
	if err != nil {
		return err
	}
	if runtime.GOOS != "windows" && at.Mode().Perm()&0o077 != 0 {
		return fmt.Errorf("other users can read %s, which holds a token; run: chmod 600 %s", path, path)
	}
	return nil
}
