package intake

import (
	"sync/atomic"

	"twinning/internal/connector"
	"twinning/internal/core/parallel"
	"twinning/internal/core/record"
)

// ahead lets a connector read on while what it gave is taken in: what comes is
// handed over in batches, in its order. What the taking in says, the connector
// hears at one of its next calls, and whoever waits for the end.
type ahead struct {
	to     connector.Sink
	batch  []given
	work   chan []given
	spare  chan []given // batches to be used again
	ended  chan struct{}
	failed atomic.Pointer[error]
}

// given is one call of a sink.
type given struct {
	call      uint8
	record    connector.Record
	rejection record.Rejection
	left      connector.Left
	text      string
	number    int
}

const (
	callRecord = iota
	callReject
	callGone
	callLeftOut
	callRestart
	callExpect
)

// aheadBy is the size of a batch; a few are under way at a time.
const aheadBy = 256

func readAhead(to connector.Sink) *ahead {
	a := &ahead{to: to, work: make(chan []given, 2), spare: make(chan []given, 4), ended: make(chan struct{})}
	go a.take()
	return a
}

func (a *ahead) take() {
	defer close(a.ended)
	for batch := range a.work {
		for i := range batch {
			if a.failed.Load() != nil {
				break // what is left is only emptied
			}
			if err := parallel.Try(func() error { return a.pass(&batch[i]) }); err != nil {
				a.failed.Store(&err)
			}
		}
		clear(batch) // what was taken in is let go
		select {
		case a.spare <- batch[:0]:
		default:
		}
	}
}

func (a *ahead) pass(g *given) error {
	switch g.call {
	case callRecord:
		return a.to.Record(g.record)
	case callReject:
		return a.to.Reject(g.rejection)
	case callGone:
		return a.to.Gone(g.text)
	case callLeftOut:
		return a.to.LeftOut(g.left)
	case callRestart:
		return a.to.Restart()
	}
	a.to.Expect(g.number)
	return nil
}

func (a *ahead) give(g given) error {
	if err := a.failed.Load(); err != nil {
		return *err
	}
	if a.batch == nil {
		select {
		case a.batch = <-a.spare:
		default:
			a.batch = make([]given, 0, aheadBy)
		}
	}
	if a.batch = append(a.batch, g); len(a.batch) == aheadBy {
		a.work <- a.batch
		a.batch = nil
	}
	return nil
}

// wait hands the rest over and returns once all of it was taken in.
func (a *ahead) wait() error {
	if len(a.batch) > 0 {
		a.work <- a.batch
	}
	close(a.work)
	<-a.ended
	if err := a.failed.Load(); err != nil {
		return *err
	}
	return nil
}

func (a *ahead) Expect(n int)                    { _ = a.give(given{call: callExpect, number: n}) } // heard at the next call
func (a *ahead) Record(r connector.Record) error { return a.give(given{call: callRecord, record: r}) }
func (a *ahead) Reject(r record.Rejection) error {
	return a.give(given{call: callReject, rejection: r})
}
func (a *ahead) Gone(id string) error           { return a.give(given{call: callGone, text: id}) }
func (a *ahead) LeftOut(l connector.Left) error { return a.give(given{call: callLeftOut, left: l}) }
func (a *ahead) Restart() error                 { return a.give(given{call: callRestart}) }
