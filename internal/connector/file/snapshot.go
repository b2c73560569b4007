package file

import (
	"bufio"
	"io"
	"os"
	"syscall"

	"twinning/internal/format"
	"twinning/internal/format/csvfile"
)

// snapshot is a file as it was when it was opened, whatever becomes of it
// later: a copy that has no name, mapped into memory rather than read into it,
// so that a list of a million records costs no more of it than a short one.
// What is given out of it is always copied; it must not be used once closed.
type snapshot struct {
	body       []byte
	compressed bool
	small      bool // held in memory: mapping a few pages gains nothing
}

// smallFile is read into memory.
const smallFile = 1 << 20

// take copies the file, unpacked, into a nameless one in the folder ("" is the
// machine's own for such).
func take(src *os.File, folder string) (*snapshot, error) {
	from, compressed, err := format.Unpack(bufio.NewReaderSize(src, 256<<10))
	if err != nil {
		return nil, err
	}
	s := &snapshot{compressed: compressed}
	start, err := io.ReadAll(io.LimitReader(from, smallFile))
	if err != nil {
		return nil, csvfile.Cut(err)
	}
	if len(start) < smallFile {
		s.body, s.small = start, true
		return s, nil
	}
	return s, s.mapFrom(start, from, folder)
}

func (s *snapshot) mapFrom(start []byte, rest io.Reader, folder string) error {
	if folder != "" {
		if err := os.MkdirAll(folder, 0o700); err != nil {
			return err
		}
	}
	f, err := os.CreateTemp(folder, "snapshot-*")
	if err != nil {
		return err
	}
	defer f.Close() // the mapping stays
	if err := os.Remove(f.Name()); err != nil {
		return err
	}
	if _, err := f.Write(start); err != nil {
		return err
	}
	n, err := io.Copy(f, rest)
	if err != nil {
		return csvfile.Cut(err)
	}
	size := int(n) + len(start)                                                              // bounded by the limit of what is unpacked
	s.body, err = syscall.Mmap(int(f.Fd()), 0, size, syscall.PROT_READ, syscall.MAP_PRIVATE) // descriptors are small
	return err
}

func (s *snapshot) close() error {
	if s.small || s.body == nil {
		return nil
	}
	err := syscall.Munmap(s.body)
	s.body = nil
	return err
}
