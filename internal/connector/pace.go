package connector

import (
	"context"

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

// Enter waits for a turn; the returned function gives it back.
func (p *Pace) Enter(ctx context.Context) (leave func(), err error) {
	if p == nil {
		return func() {}, ctx.Err()
	}
	if p.slots != nil {
		select {
		case p.slots <- struct{}{}:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	leave = func() {
		if p.slots != nil {
			<-p.slots
		}
	}
	if p.rate != nil {
		if err := p.rate.Wait(ctx); err != nil {
			leave()
			return nil, err
		}
	}
	return leave, nil
}
