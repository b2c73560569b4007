package execution

import (
	"context"
	"sync"

	"twinning/internal/core/limits"
	"twinning/internal/store"
)

// scarce counts, while a run has its turn to write, what the downstream can't do without and what
// it has no more of. Nobody else writes meanwhile, so that it is counted anew only for another
// turn, or a newer roster.
type scarce struct {
	*run
	mu      sync.Mutex
	counted bool
	roster  int64 // of the accounts, that was counted
	state   *limits.State
	sending map[string]store.Change // counted, and without a receipt
}

// forget has it counted anew: another run may have written.
func (x *scarce) forget() {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.counted = false
}

// count counts what there is, unless that is known.
func (x *scarce) count(ctx context.Context, roster int64) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.counted && x.roster == roster {
		return nil
	}
	state, err := x.Limits(ctx, x.lane, x.charter)
	if err != nil {
		return err
	}
	x.state, x.roster, x.counted = state, roster, true
	for _, c := range x.sending {
		if state != nil {
			state.Apply(&c.Body.V, c.Account, limits.Done)
		}
	}
	return nil
}

// landed is that a change has a receipt, by which it is counted from then on.
func (x *scarce) landed(change string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	delete(x.sending, change)
}

// take counts a change that is about to be sent; why says which limit it would break, and then
// it is not counted. give takes back that it was.
func (x *scarce) take(c store.Change) (why string, give func()) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.state == nil {
		return "", func() {}
	}
	why, undo := x.state.Apply(&c.Body.V, c.Account, limits.Done)
	if why != "" {
		undo()
		return why, func() {}
	}
	if x.sending == nil {
		x.sending = map[string]store.Change{}
	}
	x.sending[c.ID] = c
	of := x.state
	return "", func() {
		x.mu.Lock()
		defer x.mu.Unlock()
		delete(x.sending, c.ID)
		if x.state == of { // else it was counted anew since, without it
			undo()
		}
	}
}
