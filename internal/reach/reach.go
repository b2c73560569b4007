// Package reach turns a system into a connector: its secret decrypted, its pace
// shared, its shape worked out. Only what is opened for writing can write.
package reach

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"sync"

	"twinning/internal/connector"
	"twinning/internal/connector/outbound"
	"twinning/internal/core/record"
	"twinning/internal/crypt"
	"twinning/internal/fault"
	"twinning/internal/format"
	"twinning/internal/store"
)

// Config of a reach.
type Config struct {
	Store      *store.Store
	Keeper     *crypt.Keeper
	Connectors map[string]connector.Factory
	Outbound   *outbound.Policy // where connections may go; nil is the default policy
	DataDir    string           // for files sent with a roster
	Files      []string         // folders besides DataDir/files that files of systems may be in
}

// Reach makes connectors. It is safe for concurrent use.
type Reach struct {
	Config
	mu    sync.Mutex
	paces map[int64]paced // by system
}

// New makes one.
func New(cfg Config) *Reach { return &Reach{Config: cfg, paces: map[int64]paced{}} }

// For says what a connector is wanted for.
type For struct {
	Spool string // a file that was sent
	Batch string // what is written together; "" for reading
}

// paced is the pace of a system as it was last set.
type paced struct {
	atOnce    int
	perSecond float64
	pace      *connector.Pace
}

// pace is shared by all that this node does with a system.
func (r *Reach) pace(x store.System) *connector.Pace {
	r.mu.Lock()
	defer r.mu.Unlock()
	p := r.paces[x.ID]
	if p.pace == nil || p.atOnce != x.AtOnce || p.perSecond != x.PerSecond {
		p = paced{x.AtOnce, x.PerSecond, connector.NewPace(x.AtOnce, x.PerSecond)}
		r.paces[x.ID] = p
	}
	return p.pace
}

// Folders are where files of systems may be.
func (r *Reach) Folders() []string {
	return append([]string{filepath.Join(r.DataDir, "files")}, r.Files...)
}

// InSpool is the path of a file that was sent.
func (r *Reach) InSpool(file string) string { return filepath.Join(r.DataDir, "spool", file) }

// Connect makes the connector of a system. Only a run of a system that was
// opened for writing gets one that can write; give it back with Closed.
func (r *Reach) Connect(x store.System, how For) (connector.Connector, error) {
	secret := ""
	if len(x.Secret) > 0 {
		var err error
		if secret, err = r.Keeper.Decrypt("system "+x.Name, x.Secret); err != nil {
			return nil, fault.New(fault.Invalid, "the system can't be reached", err.Error(), "")
		}
	}
	shape := record.Shape{}
	if x.Shape != "" {
		var err error
		if shape, err = parseShape(x, x.Shape); err != nil {
			return nil, err
		}
	}
	c, err := r.Connectors[x.Kind](connector.Config{
		Name: x.Name, Settings: maps.Clone(x.Settings.V), Secret: secret, Shape: shape,
		Outbound: r.Outbound, Pace: r.pace(x), Folders: r.Folders(), Temp: r.InSpool(""), Spool: how.Spool, Batch: how.Batch,
	})
	if err != nil {
		return nil, fault.New(fault.Invalid, "the system's settings are not in order", err.Error(), "").Because("settings-invalid")
	}
	if !x.Writable || how.Batch == "" {
		return connector.ReadOnly(c), nil
	}
	return c, nil
}

// Closed gives a connector back; what it could not finish was reported when it
// was used.
func Closed(c connector.Connector) {
	if closer, ok := c.(connector.Closer); ok {
		_ = closer.Close()
	}
}

// Look opens the file of a file system.
func (r *Reach) Look(ctx context.Context, x store.System, how For) (format.About, []string, error) {
	c, err := r.Connect(x, how)
	if err != nil {
		return format.About{}, nil, err
	}
	defer Closed(c)
	return c.(connector.Looker).Look(ctx) // what reads only has it
}

// GuessShape proposes a shape for a file that has none.
func (r *Reach) GuessShape(ctx context.Context, x store.System, how For) (record.Shape, error) {
	_, natives, err := r.Look(ctx, x, how)
	if err != nil {
		return record.Shape{}, err
	}
	shape := record.Guess(natives)
	if id := x.Settings.V["id"]; id != "" {
		shape.Attributes["id"] = record.Source{Native: id}
	}
	if shape.Attributes["id"].Native == "" {
		return shape, fault.New(fault.Invalid, "no column of the file is recognised as the id", "", "give the system a shape with `id: COLUMN` (twinning shape guess FILE prints a first one)")
	}
	return shape, nil
}

// parseShape reads a shape that was kept for a system.
func parseShape(x store.System, text string) (record.Shape, error) {
	shape, err := record.ParseShape([]byte(text))
	if err != nil {
		return shape, fault.Document("the shape of system "+x.Name+" is not in order", "shape", err)
	}
	return shape, nil
}

// NewestShape is ShapeOf with the newest roster's shape, if there is a roster.
func (r *Reach) NewestShape(ctx context.Context, x store.System) (record.Shape, error) {
	newest, err := r.Store.NewestRoster(ctx, x.ID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return record.Shape{}, err
	}
	return r.ShapeOf(x, newest.Shape)
}

// ShapeOf is the system's own shape, else the one given (of a roster), else
// the connector's.
func (r *Reach) ShapeOf(x store.System, fallback string) (record.Shape, error) {
	for _, text := range []string{x.Shape, fallback} {
		if text != "" {
			return parseShape(x, text)
		}
	}
	c, err := r.Connect(x, For{})
	if err != nil {
		return record.Shape{}, err
	}
	defer Closed(c)
	return c.Declare().Shape, nil
}

// Identity is what a system's ids mean: its kind and what feeds them. While
// bonds or rulings name its records by these ids, it must stay.
func (r *Reach) Identity(x store.System) (string, error) {
	shape, err := r.NewestShape(context.Background(), x)
	if err != nil {
		return "", err
	}
	id := shape.Attributes["id"]
	if native := x.Settings.V["id"]; x.Shape == "" && native != "" {
		id.Native = native
	}
	return fmt.Sprintf("%s %s %s", x.Kind, id.Native, id.Coding), nil
}

// Origin is the address that a system is read from and written to.
func (r *Reach) Origin(x store.System) (string, error) {
	c, err := r.Connect(x, For{})
	if err != nil {
		return "", err
	}
	defer Closed(c)
	return c.Declare().Origin, nil
}
