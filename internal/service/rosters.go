package service

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"twinning/internal/access"
	"twinning/internal/connector"
	"twinning/internal/core/budget"
	"twinning/internal/fault"
	"twinning/internal/intake"
	"twinning/internal/store"
)

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
	x, err := s.system(ctx, system)
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
	detail := map[string]string{"extent": p.Extent}
	if how.File != "" {
		if _, err := s.spooled(who, how.File); err != nil {
			return store.Task{}, err
		}
		p.File = how.File
	} else if how.Body != nil {
		sent, err := s.spool(who, how.Body)
		if err != nil {
			return store.Task{}, err
		}
		p.File = sent.file
	}
	if p.File != "" {
		if err := mayReplace(who, x); err != nil {
			_ = os.Remove(s.reach.InSpool(p.File))
			return store.Task{}, err
		}
		if detail["file sent"], err = s.digestOf(p.File); err != nil {
			return store.Task{}, err
		}
		if path := x.Settings.V["path"]; path != "" {
			detail["in place of"] = path
		}
		p.Node = s.Node
	}
	title := "take a roster of " + system
	if how.Name != "" {
		title += ": " + how.Name
	}
	var t store.Task
	err = s.act(ctx, who, "roster.take", system, detail, func(tx *store.Store) error {
		t, err = queue(ctx, tx, "roster", title, who, p)
		return err
	})
	if err == nil {
		s.nudge()
	}
	return t, err
}

// mayReplace says whether somebody may send a file for a system: where it has a
// file of its own, only whoever may say which.
func mayReplace(who access.Caller, x store.System) error {
	switch {
	case x.Kind != "file":
		return fault.New(fault.Invalid, fmt.Sprintf("system %q is read over the network and takes no file", x.Name), "", "leave the file out")
	case x.Settings.V["path"] != "" && !who.May(access.Administer):
		return fault.New(fault.Denied, fmt.Sprintf("the file of system %q stands on the service's machine, and only who may administer can put another in its place", x.Name), "", "leave the file out, or ask an administrator")
	}
	return nil
}

// sent is a file that somebody sent.
type sent struct {
	file string // its name in the spool
	size int64
}

// owner is what the names of a user's files in the spool begin with.
func owner(who access.Caller) string {
	sum := sha256.Sum256([]byte(access.Key(who.Name)))
	return fmt.Sprintf("sent-%x-", sum[:6])
}

// spool keeps a sent file until its reading ends; no file when nothing was sent.
func (s *Service) spool(who access.Caller, body io.Reader) (out sent, err error) {
	dir := s.reach.InSpool("")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return out, err
	}
	held := s.sweepSpool(dir, owner(who))
	f, err := os.CreateTemp(dir, owner(who)+"*")
	if err != nil {
		return out, err
	}
	out.file = filepath.Base(f.Name())
	most := min(budget.Upload.Value(), max(budget.Spool.Value()-held, 0))
	out.size, err = io.Copy(f, io.LimitReader(body, most+1))
	err = errors.Join(err, f.Close())
	if err == nil && out.size > 0 && out.size <= most {
		return out, nil
	}
	_ = os.Remove(f.Name())
	switch {
	case err != nil:
		return sent{}, fault.New(fault.Invalid, "the file did not arrive as a whole", plainRead(err), "send it again")
	case out.size == 0:
		return sent{}, nil
	case most < budget.Upload.Value():
		return sent{}, fault.New(fault.Stopped, "your files that wait to be read take too much room", fmt.Sprintf("together they may take %s", budget.Spool), "have them read, or wait a day until those that are not used are gone")
	}
	return sent{}, fault.New(fault.Invalid, budget.Upload.Over(out.size, "the file").Error(), "", "")
}

// plainRead is why a body could not be read, without addresses.
func plainRead(err error) string {
	if errors.Is(err, os.ErrDeadlineExceeded) {
		return "it came too slowly"
	}
	if errors.Is(err, syscall.ENOSPC) {
		return "the service's disk is full"
	}
	return "the connection broke off"
}

// digestOf tells a file in the trail.
func (s *Service) digestOf(file string) (string, error) {
	f, err := os.Open(s.reach.InSpool(file))
	if err != nil {
		return "", err
	}
	defer f.Close() // only read
	h := sha256.New()
	n, err := io.Copy(h, f)
	return fmt.Sprintf("%d bytes, sha256 %x", n, h.Sum(nil)), err
}

// spoolDays is how long a file that was sent and not used is kept.
const spoolDays = 1

// sweepSpool removes what nobody came back for, and tells how much of the rest is
// somebody's.
func (s *Service) sweepSpool(dir, whose string) (held int64) {
	list, err := os.ReadDir(dir)
	if err != nil {
		return 0 // there is nothing to sweep
	}
	for _, entry := range list {
		info, err := entry.Info()
		switch {
		case err != nil: // it is gone
		case s.Now().Sub(info.ModTime()) > spoolDays*24*time.Hour:
			_ = os.Remove(filepath.Join(dir, entry.Name()))
		case strings.HasPrefix(entry.Name(), whose):
			held += info.Size()
		}
	}
	return held
}

// SendFile keeps a file for a preview and a roster; it is named by what is
// returned, for a day.
func (s *Service) SendFile(ctx context.Context, who access.Caller, system string, body io.Reader) (string, error) {
	x, err := s.system(ctx, system)
	if err != nil {
		return "", fault.About(err, "system", system)
	}
	if x.Kind != "file" {
		return "", fault.New(fault.Invalid, fmt.Sprintf("system %q is read over the network and takes no file", system), "", "preview it without a file")
	}
	sent, err := s.spool(who, body)
	if err == nil && sent.file == "" {
		err = fault.New(fault.Invalid, "the file is empty", "", "send the file as the body of the request").Because("list-empty")
	}
	if err != nil {
		return "", err
	}
	digest, err := s.digestOf(sent.file)
	if err == nil {
		err = s.act(ctx, who, "file.send", system, map[string]string{"file": digest}, onlyTold)
	}
	return sent.file, err
}

// spooled is the path of a file that was sent before.
func (s *Service) spooled(who access.Caller, file string) (string, error) {
	path := s.reach.InSpool(file)
	if filepath.Base(file) != file || !strings.HasPrefix(file, owner(who)) {
		return "", &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("%q is no file that was sent", file), Field: "file"}
	}
	if _, err := os.Stat(path); err != nil {
		return "", fault.New(fault.NotFound, "the file that was sent is no longer kept", "files are kept for a day, on the node that took them", "send it again")
	}
	return path, nil
}
