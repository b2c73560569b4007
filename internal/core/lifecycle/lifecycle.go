// Package lifecycle is the table of states that plans, runs and tasks go
// through, and of what takes them from one to the next. Whatever moves one asks
// the table; nothing else knows a state by heart. From every state that is no
// end there is an event that a human can cause (a test walks the table).
package lifecycle

import "slices"

// State of a plan, a run or a task.
type State string

// States of plans. A run has those of its task.
const (
	Draft    State = "draft"
	Sealed   State = "sealed"
	Running  State = "running"
	Finished State = "finished"
	Halted   State = "halted"
	Void     State = "void"
)

// States of tasks, beside Running, Finished and Halted.
const (
	Queued State = "queued"
	Failed State = "failed"
)

// Event takes something from one state to another.
type Event string

// Events of plans.
const (
	Seal      Event = "seal"      // a human approves it
	Start     Event = "start"     // a human has it run
	Complete  Event = "complete"  // its run is through
	Pause     Event = "pause"     // its run is through with a wave, and others are left
	Stop      Event = "stop"      // its run stopped early: halted, failed, panicked
	Abandon   Event = "abandon"   // a human gives it up
	Supersede Event = "supersede" // a newer draft of its lane takes its place
)

// Events of tasks.
const (
	Claim  Event = "claim" // a node takes it, or takes it over
	End    Event = "end"
	Fail   Event = "fail"
	Cancel Event = "cancel" // a human asked it to halt, and it did
)

// Move is one line of a table.
type Move struct {
	From  State
	Event Event
	To    State
	Human bool // a human can cause it, from any door
}

// Machine is the table of one kind of thing.
type Machine struct {
	Kind  string
	Moves []Move
}

// Plans is the table of plans.
var Plans = Machine{"plan", []Move{
	{Draft, Seal, Sealed, true},
	{Draft, Supersede, Void, true},
	{Draft, Abandon, Void, true},
	{Sealed, Start, Running, true},
	{Sealed, Abandon, Void, true},
	{Running, Complete, Finished, false},
	{Running, Pause, Sealed, false},
	{Running, Stop, Halted, true}, // a human asks its run to halt
	{Halted, Start, Running, true},
	{Halted, Abandon, Void, true},
}}

// Tasks is the table of tasks. One whose node died stays running until its lease
// has run out, and is claimed again.
var Tasks = Machine{"task", []Move{
	{Queued, Claim, Running, false},
	{Queued, Cancel, Halted, true},
	{Running, Claim, Running, false},
	{Running, End, Finished, false},
	{Running, Fail, Failed, false},
	{Running, Cancel, Halted, true},
}}

// From lists the states in which an event can happen, and where it leads; an
// event leads to one state, whatever it happens in.
func (m Machine) From(e Event) (from []State, to State) {
	for _, move := range m.Moves {
		if move.Event == e {
			from, to = append(from, move.From), move.To
		}
	}
	return from, to
}

// Allows reports whether an event can happen in a state.
func (m Machine) Allows(s State, e Event) bool {
	from, _ := m.From(e)
	return slices.Contains(from, s)
}

// States lists all, in the order of the table.
func (m Machine) States() (list []State) {
	for _, move := range m.Moves {
		for _, s := range []State{move.From, move.To} {
			if !slices.Contains(list, s) {
				list = append(list, s)
			}
		}
	}
	return list
}

// IsEnd reports whether nothing happens from a state any more.
func (m Machine) IsEnd(s State) bool {
	return !slices.ContainsFunc(m.Moves, func(move Move) bool { return move.From == s })
}
