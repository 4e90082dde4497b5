// Package order decides what goes first among what is ready.
package order

// Turns shares turns between names by their weights: smooth weighted round robin.
// Each time every name that has work gains its weight, the richest goes and pays
// what all gained together. So of any run of turns in which the same names had
// work, each gets its share, spread out evenly; a name without work neither gains
// nor pays, and its turns go where work is.
//
// Turns are one worker's. The zero value is not ready; make one.
type Turns map[string]int

// Next picks one of the names that have work, which must not be empty. A tie goes
// to the one named first.
func (t Turns) Next(open []string, weight func(name string) int) string {
	total := 0
	best := open[0]
	for _, name := range open {
		w := weight(name)
		t[name] += w
		total += w
		if t[name] > t[best] {
			best = name
		}
	}
	t[best] -= total
	return best
}
