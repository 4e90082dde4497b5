package cli

import (
	"errors"

	"humblemule.example/internal/cli/present"
)

// eachOf does something to each of the things that are given, and shows those to which it was done under the
// name of what they are. What is refused for one stops no other.
func eachOf[T any](a *app, given []string, do func(string) (T, error), what string, id func(*T) string, says func(T) string) error {
	done := []T{}
	var refused []error
	for _, name := range given {
		one, err := do(name)
		if err != nil {
			refused = append(refused, err)
			continue
		}
		done = append(done, one)
	}
	if len(done) > 0 {
		if err := a.show(map[string]any{what: done}, names(done, id), func(o *present.Out) {
			for _, one := range done {
				o.Line("%s", says(one))
			}
		}); err != nil {
			return err
		}
	}
	return errors.Join(refused...)
}
