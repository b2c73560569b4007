package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"twinning/internal/access"
	"twinning/internal/connector"
	"twinning/internal/fault"
	"twinning/internal/intake"
	"twinning/internal/store"
)

// maxUpload bounds a file sent with a roster: 4 GiB, as for any file.
const maxUpload = 4 << 30

// Taking says how a roster is to be taken.
type Taking struct {
	Extent   string    // whole (default) or changes
	Name     string    // for people; may be empty
	NewScope bool      // what the system covers was changed on purpose
	File     string    // of SendFile, for a file system
	Body     io.Reader // the file itself, instead
}

// TakeRoster queues a reading. A file system may be sent its file.
func (s *Service) TakeRoster(ctx context.Context, who access.Caller, system string, how Taking) (store.Task, error) {
	x, err := s.Store.SystemByName(ctx, system)
	if err != nil {
		return store.Task{}, fault.About(err, "system", system)
	}
	p := intake.Params{System: x.ID, Extent: connector.Whole, Name: how.Name, NewScope: how.NewScope}
	switch how.Extent {
	case "", connector.Whole:
	case connector.Changes:
		p.Extent = connector.Changes
	default:
		return store.Task{}, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("extent %q can't be taken as a roster", how.Extent), Detail: "expected whole or changes", Field: "extent"}
	}
	if how.File != "" {
		if _, err := s.spooled(how.File); err != nil {
			return store.Task{}, err
		}
		p.File = how.File
	} else if how.Body != nil {
		if p.File, err = s.spool(how.Body); err != nil {
			return store.Task{}, err
		}
	}
	if p.File != "" {
		if x.Kind != "file" {
			_ = os.Remove(s.reach.InSpool(p.File))
			return store.Task{}, fault.New(fault.Invalid, fmt.Sprintf("system %q is read over the network and takes no file", system), "", "leave the file out")
		}
		p.Node = s.Node
	}
	title := "take a roster of " + system
	if how.Name != "" {
		title += ": " + how.Name
	}
	t, err := s.Store.AddTask(ctx, "roster", title, who.Name, p)
	if err != nil {
		return t, err
	}
	s.nudge()
	return t, s.audit(ctx, who, "roster.take", system, map[string]string{"extent": p.Extent})
}

// spool keeps a sent file until its reading ends; "" when nothing was sent.
func (s *Service) spool(body io.Reader) (string, error) {
	dir := s.reach.InSpool("")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	s.sweepSpool(dir)
	f, err := os.CreateTemp(dir, "sent-*")
	if err != nil {
		return "", err
	}
	n, err := io.Copy(f, io.LimitReader(body, maxUpload+1))
	if err := errors.Join(err, f.Close()); err != nil || n == 0 || n > maxUpload {
		_ = os.Remove(f.Name())
		if n > maxUpload {
			return "", fault.New(fault.Invalid, "the file is larger than 4 GiB", "", "")
		}
		return "", err
	}
	return filepath.Base(f.Name()), nil
}

// spoolDays is how long a file that was sent and not used is kept.
const spoolDays = 1

func (s *Service) sweepSpool(dir string) {
	list, err := os.ReadDir(dir)
	if err != nil {
		return // there is nothing to sweep
	}
	for _, entry := range list {
		if info, err := entry.Info(); err == nil && s.Now().Sub(info.ModTime()) > spoolDays*24*time.Hour {
			_ = os.Remove(filepath.Join(dir, entry.Name()))
		}
	}
}

// SendFile keeps a file for a preview and a roster; it is named by what is
// returned, for a day.
func (s *Service) SendFile(ctx context.Context, system string, body io.Reader) (string, error) {
	x, err := s.Store.SystemByName(ctx, system)
	if err != nil {
		return "", fault.About(err, "system", system)
	}
	if x.Kind != "file" {
		return "", fault.New(fault.Invalid, fmt.Sprintf("system %q is read over the network and takes no file", system), "", "preview it without a file")
	}
	file, err := s.spool(body)
	if err == nil && file == "" {
		err = fault.New(fault.Invalid, "the file is empty", "", "send the file as the body of the request")
	}
	return file, err
}

// spooled is the path of a file that was sent before.
func (s *Service) spooled(file string) (string, error) {
	path := s.reach.InSpool(file)
	if filepath.Base(file) != file || !strings.HasPrefix(file, "sent-") {
		return "", &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("%q is no file that was sent", file), Field: "file"}
	}
	if _, err := os.Stat(path); err != nil {
		return "", fault.New(fault.NotFound, "the file that was sent is no longer kept", "files are kept for a day, on the node that took them", "send it again")
	}
	return path, nil
}
