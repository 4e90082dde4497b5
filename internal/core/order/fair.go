package order

// Quantum is by how much the tag of an owner of weight 1 moves on with a start.
const Quantum = 1 << 20

// Enter gives the tag of an owner that has got its first waiting job: its last tag, or
// the tag that is served now where it has been away for longer. So nobody saves up
// turns, and nobody loses one by having been idle.
func Enter(last, served int64) (tag int64) { return max(last, served) }

// Served gives an owner's tag after one start. The owner with the lowest tag is served
// next; between two owners with jobs waiting, the starts divided by the weights differ
// by at most 1/w + 1/v at any time (start-time fair queueing: Goyal, Vin and Cheng 1996,
// theorem 1, with jobs of length 1).
func Served(tag int64, weight int) (next int64) { return tag + Quantum/int64(max(weight, 1)) }
