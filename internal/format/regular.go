package format

import (
	"errors"
	"os"
	"syscall"
)

// ErrNoFile is that there is a pipe, a device or a folder where a file is expected.
var ErrNoFile = errors.New("it is no regular file")

// Regular opens a file that is one. A pipe that nobody writes to, or a device, is refused without
// waiting for it.
func Regular(open func(flag int) (*os.File, error)) (*os.File, error) {
	f, err := open(os.O_RDONLY | syscall.O_NONBLOCK)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil && info.IsDir() {
		err = syscall.EISDIR
	} else if err == nil && !info.Mode().IsRegular() {
		err = ErrNoFile
	}
	if err != nil {
		_ = f.Close() // it is of no use
		return nil, err
	}
	return f, nil
}

// RegularAt opens a file by its path.
func RegularAt(path string) (*os.File, error) {
	f, err := Regular(func(flag int) (*os.File, error) { return os.OpenFile(path, flag, 0) })
	var told *os.PathError
	if err != nil && !errors.As(err, &told) {
		err = &os.PathError{Op: "open", Path: path, Err: err}
	}
	return f, err
}
