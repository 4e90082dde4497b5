// Package job says what a job is: its spec, its states, the moves between
// them, and the values that producers, workers and the service exchange.
//
// It is the ground floor of the house: it imports nothing of ours, knows no
// storage, no HTTP and no clock. Two functions decide every change of state:
// [Place] says where a job that is not running belongs, and [Move] says
// whether a change from one state to another is allowed.
package job
