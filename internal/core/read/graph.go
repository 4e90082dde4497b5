package read

import (
	"cmp"
	"context"
	"slices"

	"humblemule.example/api"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// graph is a batch that is laid out: its jobs by their places, and which of them each waits for.
type graph struct {
	members []store.Member
	tasks   []string
	needs   [][]int
	level   []int
	longest []bool
	last    int   // the place of the last job; -1 for none
	order   []int // each comes after those that it waits for, the last job at the end
}

// BatchGraph lays the jobs of a batch in levels.
func (rd *Reader) BatchGraph(ctx context.Context, id int64) (api.BatchGraph, error) {
	told := api.BatchGraph{Nodes: []api.BatchNode{}, Links: []api.BatchLink{}}
	if err := scope.Whole(ctx); err != nil {
		return told, err
	}
	b, err := rd.store.ReadBatch(ctx, id)
	if err != nil {
		return told, err
	}
	if b == nil {
		return told, NoBatch(id)
	}
	members, err := rd.store.BatchMembers(ctx, id, api.MaxBatchGraph+1)
	if err != nil {
		return told, err
	}
	if told.More = len(members) > api.MaxBatchGraph; told.More {
		members = members[:api.MaxBatchGraph]
	}
	if len(members) == 0 {
		return told, nil
	}
	edges, err := rd.store.EdgesIn(ctx, id, members[len(members)-1].ID, api.MaxBatchEdges)
	if err != nil {
		return told, err
	}
	g := rd.layOut(members, edges, b.Last)
	g.fold(&told)
	return told, nil
}

// layOut finds the level of each job, and the path that takes longest: every job takes as long as half of
// the runs of its task do.
func (rd *Reader) layOut(members []store.Member, edges []store.Edge, last int64) *graph {
	g := &graph{members: members, tasks: make([]string, len(members)), needs: make([][]int, len(members)), level: make([]int, len(members)), longest: make([]bool, len(members)), last: -1}
	at := make(map[int64]int, len(members))
	for i, m := range members {
		at[m.ID] = i
		if _, g.tasks[i] = rd.Names(m.Queue, m.Task); m.ID == last {
			g.last = i
		}
	}
	then, unmet := make([][]int, len(members)), make([]int, len(members))
	for _, e := range edges {
		from, known := at[e.Needs]
		to, also := at[e.Job]
		if known && also {
			g.needs[to], then[from] = append(g.needs[to], from), append(then[from], to)
			unmet[to]++
		}
	}
	usual, took := rd.usuals(), make([]int64, len(members))
	var free []int
	for i, n := range unmet {
		if n == 0 && i != g.last {
			free = append(free, i)
		}
	}
	end := -1
	for ; len(free) > 0; free = free[1:] {
		i := free[0]
		g.order = append(g.order, i)
		ms, _ := usual(g.tasks[i])
		if took[i] += ms + 1; end < 0 || took[i] > took[end] {
			end = i
		}
		for _, t := range then[i] {
			g.level[t], took[t] = max(g.level[t], g.level[i]+1), max(took[t], took[i])
			if unmet[t]--; unmet[t] == 0 {
				free = append(free, t)
			}
		}
	}
	if g.last >= 0 {
		g.order = append(g.order, g.last)
		g.level[g.last], g.longest[g.last] = 0, true
		for i, l := range g.level {
			if i != g.last {
				g.level[g.last] = max(g.level[g.last], l+1)
			}
		}
	}
	for i := end; i >= 0; {
		g.longest[i] = true
		next := -1
		for _, n := range g.needs[i] {
			if next < 0 || took[n] > took[next] {
				next = n
			}
		}
		i = next
	}
	return g
}

// nodeTold is how many jobs of a node that are told one by one.
const nodeTold = 10

// fold makes nodes of the jobs: one of each task in each level; levels that are one job each, of one
// task, one after the other, are one node.
func (g *graph) fold(told *api.BatchGraph) {
	order := make([]int, len(g.members))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		return cmp.Or(cmp.Compare(g.level[a], g.level[b]), cmp.Compare(g.tasks[a], g.tasks[b]))
	})
	perLevel := map[int]int{}
	for _, l := range g.level {
		perLevel[l]++
	}
	node := make([]int, len(g.members))
	for k, i := range order {
		goesOn := false
		if k > 0 {
			before := order[k-1]
			same := g.tasks[before] == g.tasks[i] && i != g.last
			alone := perLevel[g.level[i]] == 1 && perLevel[g.level[before]] == 1 && g.level[i] == g.level[before]+1
			goesOn = same && (g.level[before] == g.level[i] || alone)
		}
		if !goesOn {
			told.Nodes = append(told.Nodes, api.BatchNode{Level: g.level[i] + 1, Task: g.tasks[i], Counts: map[job.State]int64{}, First: []job.Edge{}, Last: i == g.last})
		}
		node[i] = len(told.Nodes) - 1
		g.into(&told.Nodes[node[i]], i)
		told.Levels = max(told.Levels, g.level[i]+1)
	}
	g.link(told, node)
}

// into counts a job in a node.
func (g *graph) into(n *api.BatchNode, i int) {
	m := g.members[i]
	n.Jobs++
	n.Counts[m.State]++
	n.Depth = g.level[i] + 2 - n.Level
	n.Longest = n.Longest || g.longest[i]
	if len(n.First) < nodeTold {
		n.First = append(n.First, job.Edge{Job: m.ID, Ref: m.Ref, Task: g.tasks[i], State: m.State})
	}
}

// link makes links of what waits for what.
func (g *graph) link(told *api.BatchGraph, node []int) {
	links := map[[2]int]*api.BatchLink{}
	for to, needs := range g.needs {
		for _, from := range needs {
			key := [2]int{node[from], node[to]}
			if key[0] == key[1] {
				continue
			}
			if links[key] == nil {
				links[key] = &api.BatchLink{From: key[0], To: key[1]}
			}
			links[key].Jobs++
			links[key].Longest = links[key].Longest || g.longest[from] && g.longest[to]
		}
	}
	for _, l := range links {
		told.Links = append(told.Links, *l)
	}
	slices.SortFunc(told.Links, func(a, b api.BatchLink) int { return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To)) })
}
