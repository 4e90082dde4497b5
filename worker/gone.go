package worker

import "slices"

// gone are tokens of leases that were settled while calls were open whose answers may still
// tell of them: a lease of which one of those answers tells is not begun anew. Once those
// calls have ended nothing tells of it, so that what is remembered is bounded by what is
// settled during a call. The pool's lock guards it.
type gone struct {
	begun  int64            // calls, so far
	open   []int64          // the numbers of those that have had no answer, in order
	at     map[string]int64 // how many calls had begun when a token was settled
	tokens []string         // in the order in which they were settled
}

// has tells whether a token was settled.
func (g *gone) has(token string) bool {
	_, is := g.at[token]
	return is
}

// add notes that a token was settled.
func (g *gone) add(token string) {
	if len(g.open) == 0 || g.has(token) {
		return
	}
	if g.at == nil {
		g.at = map[string]int64{}
	}
	g.at[token] = g.begun
	g.tokens = append(g.tokens, token)
}

// begin notes that a call begins, and gives its number.
func (g *gone) begin() int64 {
	g.begun++
	g.open = append(g.open, g.begun)
	return g.begun
}

// end notes that a call has ended, and forgets what only calls before the open ones could
// tell of.
func (g *gone) end(call int64) {
	g.open = slices.DeleteFunc(g.open, func(n int64) bool { return n == call })
	n := 0
	for n < len(g.tokens) && (len(g.open) == 0 || g.at[g.tokens[n]] < g.open[0]) {
		delete(g.at, g.tokens[n])
		n++
	}
	g.tokens = slices.Delete(g.tokens, 0, n)
}

// tells notes that a call begins whose answer may tell of leases; what it gives is called
// when the answer was taken up.
func (p *Pool) tells() (ended func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	call := p.gone.begin()
	return func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		p.gone.end(call)
	}
}
