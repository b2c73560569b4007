package connector

import (
	"context"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"
)

// Pace bounds how fast and how many at a time requests go to one system. All
// connectors of the system share it.
type Pace struct {
	slots chan struct{}
	rate  *rate.Limiter
}

// NewPace allows so many requests at a time and a second; 0 is no limit.
func NewPace(atOnce int, perSecond float64) *Pace {
	p := &Pace{}
	if atOnce > 0 {
		p.slots = make(chan struct{}, atOnce)
	}
	if perSecond > 0 {
		p.rate = rate.NewLimiter(rate.Limit(perSecond), max(1, int(perSecond)))
	}
	return p
}

// startBy is by when the first request of something must be on its way.
type startBy struct {
	at   time.Time
	done atomic.Bool // it was
}

// StartBy says by when the first request that is sent in a context must be on its way: one that
// finds no place until then is an *Error of kind Throttled, and is not sent.
func StartBy(ctx context.Context, at time.Time) context.Context {
	return context.WithValue(ctx, startBy{}, &startBy{at: at})
}

// Enter waits for a turn; the returned function gives it back.
func (p *Pace) Enter(ctx context.Context) (leave func(), err error) {
	if p == nil {
		return func() {}, ctx.Err()
	}
	var late <-chan time.Time
	by, bound := ctx.Value(startBy{}).(*startBy)
	if bound = bound && !by.done.Swap(true); bound {
		timer := time.NewTimer(time.Until(by.at))
		defer timer.Stop()
		late = timer.C
	}
	if p.slots != nil {
		select {
		case p.slots <- struct{}{}:
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-late:
			return nil, &Error{Kind: Throttled, Doing: "send", Target: "the system", Reason: "all its places were taken for too long"}
		}
	}
	leave = func() {
		if p.slots != nil {
			<-p.slots
		}
	}
	if p.rate == nil {
		return leave, nil
	}
	turn := p.rate.Reserve()
	if bound && time.Now().Add(turn.Delay()).After(by.at) {
		wait := turn.Delay()
		turn.Cancel()
		leave()
		return nil, &Error{Kind: Throttled, Doing: "send", Target: "the system", Reason: "its turn would come too late", After: wait}
	}
	timer := time.NewTimer(turn.Delay())
	defer timer.Stop()
	select {
	case <-timer.C:
		return leave, nil
	case <-ctx.Done():
		turn.Cancel()
		leave()
		return nil, ctx.Err()
	}
}
