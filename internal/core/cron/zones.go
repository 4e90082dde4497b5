package cron

import (
	_ "embed"
	"slices"
	"strings"
	_ "time/tzdata" // a machine may have none

	"humblemule.example/internal/nearest"
)

// zoneNames are the names of the tz database, a line each. They serve to find the nearest
// one; what a name means is package time's.
//
//go:embed zones.txt
var zoneNames string

// Zones are the names of the tz database.
func Zones() []string { return strings.Fields(zoneNames) }

// nearestZone finds the zone that is likely meant: by its whole name, or by its place alone.
func nearestZone(name string) string {
	byLower := map[string]string{}
	for full := range strings.Lines(zoneNames) {
		full = strings.TrimSpace(full)
		byLower[strings.ToLower(full)] = full
	}
	places := map[string]string{}
	for lower, full := range byLower {
		place := lower[strings.LastIndexByte(lower, '/')+1:]
		if other, taken := places[place]; !taken || full < other {
			places[place] = full
		}
	}
	asked := strings.ToLower(strings.ReplaceAll(name, " ", "_"))
	if full := byLower[asked]; full != "" {
		return full
	}
	if full := places[asked[strings.LastIndexByte(asked, '/')+1:]]; full != "" {
		return full
	}
	if n := nearest.To(asked, sorted(byLower)); n != "" {
		return byLower[n]
	}
	return places[nearest.To(asked, sorted(places))]
}

func sorted(all map[string]string) (names []string) {
	for name := range all {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}
