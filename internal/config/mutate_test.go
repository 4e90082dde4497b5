package config

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Whatever becomes of a set-up file, by whatever slip of the hand, it is read, or each thing that is wrong with
// it is reported with its place.
func TestSlips(t *testing.T) {
	raw, err := os.ReadFile("../harbour/data/hmule.yaml")
	require.NoError(t, err)
	whole := string(raw)
	_, err = ParseSetup("hmule.yaml", raw)
	require.NoError(t, err)
	place := regexp.MustCompile(`^hmule\.yaml:(\d+):(\d+): \S`)
	draw := rand.New(rand.NewPCG(1201, 1))
	words := []string{"&a ", "*a", "<<: *a", "? ", "- ", "!!binary ", "!x ", "|", ">-", "'", `"`, "[", "]", "{", "}", ",", ":", ": ", "#", "null", "~", ".nan", ".inf", "0x1f", "1e400", "-1", "99999999999999999999", "2026-11-23", "\t", "\x00", "\n", "\n  ", "\n---\n", "\n...\n", "%", "@", "\u2028", "\xff", "yes", "x", "🚢", "a: ", "[*a, *a]"}
	for n := range 1500 {
		text := whole
		for range 1 + draw.IntN(4) {
			at := draw.IntN(len(text) + 1)
			end := min(at+draw.IntN(12), len(text))
			switch draw.IntN(4) {
			case 0:
				text = text[:at] + text[end:]
			case 1:
				text = text[:at] + words[draw.IntN(len(words))] + text[at:]
			case 2:
				text = text[:at] + words[draw.IntN(len(words))] + text[end:]
			case 3: // a line comes twice, or moves
				lines := strings.SplitAfter(text, "\n")
				i, j := draw.IntN(len(lines)), draw.IntN(len(lines))
				lines[i] = lines[j] + lines[i]
				text = strings.Join(lines, "")
			}
		}
		func() {
			defer func() {
				if p := recover(); p != nil {
					t.Fatalf("%d: panic: %v in\n%s", n, p, text)
				}
			}()
			f, err := ParseSetup("hmule.yaml", []byte(text))
			if err == nil {
				_, err := json.Marshal(f)
				require.NoError(t, err, text)
				return
			}
			for line := range strings.Lines(err.Error()) {
				at := place.FindStringSubmatch(line)
				if at == nil {
					t.Fatalf("%d: %q has no place in\n%s", n, line, text)
				}
				var l int
				fmt.Sscan(at[1], &l)
				require.LessOrEqual(t, l, strings.Count(text, "\n")+2, "%s in\n%s", line, text)
			}
		}()
	}
}
