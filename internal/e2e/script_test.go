package e2e

import (
	"context"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"twinning/internal/format/ldif"
	"twinning/internal/standin/directory"
)

// twins are two directories that begin alike: what a run does to one is done to the other by
// the plan's change records.
type twins struct {
	*rig
	run, script *directory.Server
}

func (r *rig) twins(cfg directory.Config, tree string) twins {
	start := func() *directory.Server {
		cfg.Dir = dataDir(r.t)
		s, err := directory.Start(context.Background(), cfg, tree)
		require.NoError(r.t, err)
		r.t.Cleanup(func() { require.NoError(r.t, s.Stop()) })
		return s
	}
	return twins{r, start(), start()}
}

func bound(t testing.TB, s *directory.Server) *ldap.Conn {
	c, err := ldap.DialURL(s.URL)
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	require.NoError(t, c.Bind(s.Admin(), directory.Secret))
	return c
}

// plays does to the one what the file of a plan says.
func (w twins) plays(plan string) string {
	text := w.twinning(0, "plan", "export", plan, "--format", "ldif")
	require.NotContains(w.t, text, "is not here", text)
	changes, err := ldif.Changes([]byte(text))
	require.NoError(w.t, err, text)
	require.NotEmpty(w.t, changes)
	c := bound(w.t, w.script)
	for _, rec := range changes {
		switch rec.Type {
		case "add":
			req := ldap.NewAddRequest(rec.DN, nil)
			for name, values := range rec.Attributes {
				req.Attribute(name, values)
			}
			err = c.Add(req)
		case "modify":
			req := ldap.NewModifyRequest(rec.DN, nil)
			for _, m := range rec.Mods {
				require.Contains(w.t, []string{"add", "delete"}, m.Op, "what an entry holds by now is never replaced unseen")
				if m.Op == "add" {
					req.Add(m.Attribute, m.Values)
				} else {
					req.Delete(m.Attribute, m.Values)
				}
			}
			err = c.Modify(req)
		case "modrdn":
			err = c.ModifyDN(ldap.NewModifyDNRequest(rec.DN, rec.NewRDN, rec.DeleteOld, rec.NewParent))
		case "delete":
			err = c.Del(ldap.NewDelRequest(rec.DN, nil))
		}
		require.NoError(w.t, err, "line %d of\n%s", rec.Line, text)
	}
	return text
}

// alike: the two are the same, entry by entry and value by value.
func (w twins) alike() {
	entries := func(s *directory.Server) map[string]map[string][]string {
		res, err := bound(w.t, s).Search(ldap.NewSearchRequest(s.Suffix, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, 0, false, "(objectClass=*)", nil, nil))
		require.NoError(w.t, err)
		all := map[string]map[string][]string{}
		for _, e := range res.Entries {
			values := map[string][]string{}
			for _, a := range e.Attributes {
				values[a.Name] = slices.Sorted(slices.Values(a.Values))
			}
			all[strings.ToLower(e.DN)] = values
		}
		return all
	}
	run, script := entries(w.run), entries(w.script)
	require.Greater(w.t, len(run), 2)
	require.Equal(w.t, slices.Sorted(maps.Keys(run)), slices.Sorted(maps.Keys(script)))
	require.Equal(w.t, run, script)
}
