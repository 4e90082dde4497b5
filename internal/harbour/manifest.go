package harbour

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"humblemule.example/worker"
)

// ManifestCheck is the task that checks a ship's cargo manifest.
const ManifestCheck = "manifest.check"

// Arrival names a manifest by its file; the goods stay where they are.
type Arrival struct {
	Manifest string `json:"manifest"`
}

// Cargo sums a checked manifest up.
type Cargo struct {
	Manifest   string `json:"manifest"`
	Containers int    `json:"containers"`
	WeightKG   int    `json:"weight_kg"`
	Hazardous  int    `json:"hazardous"`
}

// departed ships need no check any more.
var departed = []string{"avocet-0518"}

func (w *World) checkManifest(ctx context.Context, a Arrival) (Cargo, error) {
	if slices.Contains(departed, a.Manifest) {
		return Cargo{}, worker.Skip("the ship of manifest " + a.Manifest + " has sailed without unloading")
	}
	f, err := data.Open("data/manifests/" + a.Manifest + ".csv")
	if err != nil {
		return Cargo{}, worker.GiveUp(&trouble{"manifest_missing", fmt.Sprintf("no manifest %q has been filed", a.Manifest)})
	}
	defer f.Close()
	if err := w.wait(ctx, 200*time.Millisecond, 1800*time.Millisecond); err != nil {
		return Cargo{}, err
	}
	if w.chance(15) {
		return Cargo{}, &trouble{"customs_busy", "the customs register is busy: 503 after 1.2 s"}
	}
	cargo, err := readManifest(f)
	if err != nil {
		return Cargo{}, worker.GiveUp(err)
	}
	cargo.Manifest = a.Manifest
	return cargo, nil
}

func malformed(line int, format string, args ...any) error {
	return &trouble{"manifest_malformed", fmt.Sprintf("line %d: ", line) + fmt.Sprintf(format, args...)}
}

// readManifest checks every row; the error names the line.
func readManifest(f io.Reader) (c Cargo, err error) {
	r := csv.NewReader(f)
	r.FieldsPerRecord = -1
	for line := 1; ; line++ {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			return c, nil
		}
		if err != nil {
			return c, malformed(line, "%v", err)
		}
		if line == 1 {
			continue
		}
		if err := c.add(line, row); err != nil {
			return c, err
		}
	}
}

// hazards are the classes of dangerous goods that the harbour may unload.
var hazards = []string{"1.4", "2.1", "2.2", "3", "4.1", "5.1", "8", "9"}

func (c *Cargo) add(line int, row []string) error {
	if len(row) != 4 {
		return malformed(line, "%d columns; container, goods, weight_kg and hazard are needed", len(row))
	}
	weight, err := strconv.Atoi(row[2])
	switch {
	case err != nil:
		return malformed(line, "the weight %q is not a valid number of kilograms", row[2])
	case weight < 1 || weight > 32500:
		return malformed(line, "a weight of %d kg is outside 1 to 32500", weight)
	case !validContainer(row[0]):
		return malformed(line, "the check digit of container %s is wrong", row[0])
	case row[3] != "" && !slices.Contains(hazards, row[3]):
		return malformed(line, "hazard class %q may not be unloaded here", row[3])
	}
	c.Containers++
	c.WeightKG += weight
	if row[3] != "" {
		c.Hazardous++
	}
	return nil
}

// validContainer checks the last digit of a container's number as ISO 6346
// computes it.
func validContainer(number string) bool {
	if len(number) != 11 {
		return false
	}
	sum := 0
	for i, ch := range number[:10] {
		sum += containerValue(ch) << i
	}
	return strconv.Itoa(sum%11%10) == number[10:]
}

// containerValue counts letters from 10 on, leaving out the multiples of 11.
func containerValue(ch rune) int {
	if ch >= '0' && ch <= '9' {
		return int(ch - '0')
	}
	n := strings.IndexRune("ABCDEFGHIJKLMNOPQRSTUVWXYZ", ch) + 10
	return n + (n-1)/10
}
