package service

import (
	"context"
	"errors"
	"maps"
	"path/filepath"

	"twinning/internal/connector"
	"twinning/internal/core/record"
	"twinning/internal/format"
	"twinning/internal/store"
)

// reach says what a connector is wanted for.
type reach struct {
	spool string // a file that was sent
	batch string // what is written together; "" for reading
}

// paced is the pace of a system as it was last set.
type paced struct {
	atOnce    int
	perSecond float64
	pace      *connector.Pace
}

// pace is shared by all that this node does with a system.
func (s *Service) pace(x store.System) *connector.Pace {
	s.mu.Lock()
	defer s.mu.Unlock()
	p := s.paces[x.ID]
	if p.pace == nil || p.atOnce != x.AtOnce || p.perSecond != x.PerSecond {
		p = paced{x.AtOnce, x.PerSecond, connector.NewPace(x.AtOnce, x.PerSecond)}
		s.paces[x.ID] = p
	}
	return p.pace
}

// folders are where files of systems may be.
func (s *Service) folders() []string {
	return append([]string{filepath.Join(s.DataDir, "files")}, s.Files...)
}

// connect makes the connector of a system. Only a run of a system that was
// opened for writing gets one that can write; give it back with closed.
func (s *Service) connect(x store.System, how reach) (connector.Connector, error) {
	secret := ""
	if len(x.Secret) > 0 {
		var err error
		if secret, err = s.Keeper.Decrypt("system "+x.Name, x.Secret); err != nil {
			return nil, fault(Invalid, "the system can't be reached", err.Error(), "")
		}
	}
	shape := record.Shape{}
	if x.Shape != "" {
		var err error
		if shape, err = parseShape(x, x.Shape); err != nil {
			return nil, err
		}
	}
	c, err := s.Connectors[x.Kind](connector.Config{
		Name: x.Name, Settings: maps.Clone(x.Settings.V), Secret: secret, Shape: shape,
		Outbound: s.Outbound, Pace: s.pace(x), Folders: s.folders(), Temp: s.inSpool(""), Spool: how.spool, Batch: how.batch,
	})
	if err != nil {
		return nil, fault(Invalid, "the system's settings are not in order", err.Error(), "")
	}
	if !x.Writable || how.batch == "" {
		return connector.ReadOnly(c), nil
	}
	return c, nil
}

// closed gives a connector back; what it could not finish was reported when it
// was used.
func closed(c connector.Connector) {
	if closer, ok := c.(connector.Closer); ok {
		_ = closer.Close()
	}
}

// look opens the file of a file system.
func (s *Service) look(ctx context.Context, x store.System, how reach) (format.About, []string, error) {
	c, err := s.connect(x, how)
	if err != nil {
		return format.About{}, nil, err
	}
	defer closed(c)
	return c.(connector.Looker).Look(ctx) // what reads only has it
}

// guessShape proposes a shape for a file that has none.
func (s *Service) guessShape(ctx context.Context, x store.System, how reach) (record.Shape, error) {
	_, natives, err := s.look(ctx, x, how)
	if err != nil {
		return record.Shape{}, err
	}
	shape := record.Guess(natives)
	if id := x.Settings.V["id"]; id != "" {
		shape.Attributes["id"] = record.Source{Native: id}
	}
	if shape.Attributes["id"].Native == "" {
		return shape, fault(Invalid, "no column of the file is recognised as the id", "", "give the system a shape with `id: COLUMN` (twinning shape guess FILE prints a first one)")
	}
	return shape, nil
}

// parseShape reads a shape that was kept for a system.
func parseShape(x store.System, text string) (record.Shape, error) {
	shape, err := record.ParseShape([]byte(text))
	if err != nil {
		return shape, documentError("the shape of system "+x.Name+" is not in order", "shape", err)
	}
	return shape, nil
}

// newestShape is shapeOf with the newest roster's shape, if there is a roster.
func (s *Service) newestShape(ctx context.Context, x store.System) (record.Shape, error) {
	newest, err := s.Store.NewestRoster(ctx, x.ID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return record.Shape{}, err
	}
	return s.shapeOf(x, newest.Shape)
}

// shapeOf is the system's own shape, else the one given (of a roster), else
// the connector's.
func (s *Service) shapeOf(x store.System, fallback string) (record.Shape, error) {
	for _, text := range []string{x.Shape, fallback} {
		if text != "" {
			return parseShape(x, text)
		}
	}
	c, err := s.connect(x, reach{})
	if err != nil {
		return record.Shape{}, err
	}
	defer closed(c)
	return c.Declare().Shape, nil
}
