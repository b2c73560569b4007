// Package parallel runs parts of a computation at the same time. A part that
// panics does not take the process with it: whoever waits gets the panic.
package parallel

import (
	"fmt"
	"runtime/debug"
	"sync"
)

// Group is like sync.WaitGroup. Its zero value is ready.
type Group struct {
	wg    sync.WaitGroup
	once  sync.Once
	panic *Panic
}

// Panic is what a part of a computation ended with.
type Panic struct {
	Value any
	Stack []byte // of the part
}

func (p *Panic) Error() string { return fmt.Sprintf("%v\n%s", p.Value, p.Stack) }

// Go runs a part.
func (g *Group) Go(part func()) {
	g.wg.Go(func() {
		defer func() {
			if v := recover(); v != nil {
				g.once.Do(func() { g.panic = &Panic{v, debug.Stack()} })
			}
		}()
		part()
	})
}

// Try makes an error, a *Panic, of a panic: for whatever must be tidied up after.
func Try(do func() error) (err error) {
	defer func() {
		switch v := recover().(type) {
		case nil:
		case *Panic:
			err = v
		default:
			err = &Panic{v, debug.Stack()}
		}
	}()
	return do()
}

// Wait waits for all parts, and panics with what one of them panicked with.
func (g *Group) Wait() {
	g.wg.Wait()
	if g.panic != nil {
		panic(g.panic)
	}
}
