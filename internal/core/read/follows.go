package read

import (
	"cmp"
	"context"
	"slices"

	"humblemule.example/api"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
)

// Follows lists the labels that are followed, by name.
func (rd *Reader) Follows(ctx context.Context) ([]api.Follow, error) {
	if err := scope.Whole(ctx); err != nil {
		return nil, err
	}
	rd.m.RLock()
	defer rd.m.RUnlock()
	all := []api.Follow{}
	for f, n := range rd.m.Follows.KeptFollows() {
		all = append(all, tellFollow(f, n))
	}
	slices.SortFunc(all, func(a, b api.Follow) int { return cmp.Compare(a.Name, b.Name) })
	return all, nil
}

// FollowNamed tells of one label that is followed.
func (rd *Reader) FollowNamed(ctx context.Context, name string) (api.Follow, error) {
	if err := scope.Whole(ctx); err != nil {
		return api.Follow{}, err
	}
	rd.m.RLock()
	defer rd.m.RUnlock()
	f, n := rd.m.Follows.KeptFollow(name)
	if f == nil {
		return api.Follow{}, memory.NotFollowed(name)
	}
	return tellFollow(f, n), nil
}

func tellFollow(f *store.Follow, n *memory.ByState) api.Follow {
	return api.Follow{Name: f.Name, Label: api.NewFollow{Name: f.Label, Value: f.Value}, MadeAt: f.MadeAt, MadeBy: f.MadeBy, Counts: tellStates(n), Counting: f.First != 0}
}
