package evidence

// rooms are where a reader keeps the lists of its faces: a few large pieces of memory
// instead of a small one for every list.
type rooms struct {
	words      room[word]
	mades      room[made]
	locals     room[local]
	emails     room[address]
	nextMade   []made // of the face at hand
	nextLocals []local
	nextEmails []address
}

func (x *rooms) begin() {
	x.nextMade, x.nextLocals, x.nextEmails = x.nextMade[:0], x.nextLocals[:0], x.nextEmails[:0]
}

// room hands out pieces of a list.
type room[T any] struct{ free []T }

const roomSize = 8192

// keep copies a list.
func (r *room[T]) keep(list []T) []T {
	n := len(list)
	switch {
	case n == 0:
		return nil
	case n > roomSize/16:
		return append([]T(nil), list...)
	case len(r.free) < n:
		r.free = make([]T, roomSize)
	}
	kept := r.free[:n:n]
	r.free = r.free[n:]
	copy(kept, list)
	return kept
}
