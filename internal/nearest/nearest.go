// Package nearest finds names that are perhaps meant.
package nearest

// To finds the name that is most likely meant by a mistyped one: that of
// the fewest edits, if these are no more than a third of its length; empty where
// there is none, or where the name itself is one of them.
func To(name string, names []string) (nearest string) {
	fewest := len(name)/3 + 1
	for _, other := range names {
		if other == name {
			return ""
		}
		if n := edits(name, other); n < fewest {
			nearest, fewest = other, n
		}
	}
	return nearest
}

// edits counts the letters that are inserted, deleted, replaced, or swapped with
// their neighbour, to make b of a (the optimal string alignment distance).
func edits(a, b string) int {
	var before, above []int
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		before, above, row = above, row, make([]int, len(b)+1)
		row[0] = i + 1
		for j := range len(b) {
			replaced := above[j]
			if a[i] != b[j] {
				replaced++
			}
			row[j+1] = min(replaced, above[j+1]+1, row[j]+1)
			if i > 0 && j > 0 && a[i] == b[j-1] && a[i-1] == b[j] {
				row[j+1] = min(row[j+1], before[j-1]+1)
			}
		}
	}
	return row[len(b)]
}
