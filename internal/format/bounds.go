package format

import (
	"compress/gzip"
	"fmt"
	"io"

	"twinning/internal/core/budget"
	"twinning/internal/core/record"
)

// Unpack reads what is compressed by gzip, and passes on what is not. What comes
// out is bounded, and so is how much larger than its source it may become.
func Unpack(r io.Reader) (from io.Reader, compressed bool, err error) {
	head := make([]byte, 2)
	n, err := io.ReadFull(r, head)
	if err != nil && err != io.ErrUnexpectedEOF && err != io.EOF { // both are bare
		return nil, false, err
	}
	in := &counted{r: r, n: int64(n)}
	in.ahead = head[:n]
	if n < 2 || head[0] != 0x1f || head[1] != 0x8b {
		return &bounded{in: in, r: in}, false, nil
	}
	z, err := gzip.NewReader(in)
	if err != nil {
		return nil, true, fmt.Errorf("the file starts like gzip but can't be decompressed: %w", err)
	}
	return &bounded{in: in, r: z, packed: true}, true, nil
}

type counted struct {
	r     io.Reader
	ahead []byte
	n     int64
}

func (c *counted) Read(p []byte) (n int, err error) {
	if len(c.ahead) > 0 {
		n = copy(p, c.ahead)
		c.ahead = c.ahead[n:]
		return n, nil
	}
	n, err = c.r.Read(p)
	c.n += int64(n)
	return n, err
}

type bounded struct {
	in     *counted
	r      io.Reader
	packed bool
	n      int64
}

// freely is what may come out whatever went in.
const freely = 16 << 20

func (b *bounded) Read(p []byte) (n int, err error) {
	n, err = b.r.Read(p)
	b.n += int64(n)
	if over := budget.Unpacked.Over(b.n, "the file's text"); over != nil {
		return n, over
	}
	if b.packed && b.n > freely {
		if over := budget.Ratio.Over(b.n/max(b.in.n, 1), "the file"); over != nil {
			return n, over
		}
	}
	return n, err
}

// Meter bounds what a reader of records takes for one of them: each call of Next
// allows one more.
type Meter struct {
	r    io.Reader
	left int64
}

// NewMeter allows the first record.
func NewMeter(r io.Reader) *Meter {
	m := &Meter{r: r}
	m.Next()
	return m
}

// ahead is what a reader may take beyond the record it is at.
const ahead = 64 << 10

// Next allows a record.
func (m *Meter) Next() { m.left = budget.Record.Value() + ahead }

func (m *Meter) Read(p []byte) (int, error) {
	if m.left <= 0 {
		return 0, budget.Record.Over(1<<62, "a record of the file")
	}
	n, err := m.r.Read(p[:min(int64(len(p)), m.left)])
	m.left -= int64(n)
	return n, err
}

// Columns judges the names of a file's columns, or of a record's attributes.
func Columns(names []string) error {
	if err := budget.Columns.Over(int64(len(names)), fmt.Sprintf("a list of %d columns or attributes", len(names))); err != nil {
		return err
	}
	for _, name := range names {
		if err := budget.Key.Over(int64(len(name)), fmt.Sprintf("the name %.40q…", name)); err != nil {
			return err
		}
	}
	return nil
}

// Within is a file whose records keep to the limits: one that doesn't is told as
// not readable, too many end the reading.
func Within(f File) (File, error) {
	return within{f}, Columns(f.Natives())
}

type within struct{ File }

// Unwrap gives the file itself.
func (w within) Unwrap() File { return w.File }

func (w within) Each(fn func(Row) error) error {
	n := int64(0)
	return w.File.Each(func(row Row) error {
		if n++; n > budget.Records.Value() {
			return budget.Records.Over(n, "the number of records")
		}
		if row.Fault == "" && row.LeftOut == "" {
			row.At, row.Fault = record.Oversized(row.Values)
		}
		return fn(row)
	})
}

// Unwrap gives a file as its format opened it.
func Unwrap(f File) File {
	for {
		w, ok := f.(interface{ Unwrap() File })
		if !ok {
			return f
		}
		f = w.Unwrap()
	}
}

// Close lets go of what a file holds beside memory.
func Close(f File) error {
	if c, ok := Unwrap(f).(io.Closer); ok {
		return c.Close()
	}
	return nil
}
