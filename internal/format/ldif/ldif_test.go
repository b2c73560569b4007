package ldif_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/format/ldif"
)

// What is escaped belongs to the name, at its end as well.
func TestSplitDN(t *testing.T) {
	for dn, want := range map[string][2]string{
		"uid=ana,ou=people,dc=example": {"uid=ana", "ou=people,dc=example"},
		"uid=ana , ou=people":          {"uid=ana", "ou=people"},
		`cn=Thorne\, Ana,dc=example`:   {`cn=Thorne\, Ana`, "dc=example"},
		`cn=Domes\,,dc=example`:        {`cn=Domes\,`, "dc=example"},
		`cn=Ana\ ,dc=example`:          {`cn=Ana\ `, "dc=example"},
		`cn=Ana\\,dc=example`:          {`cn=Ana\\`, "dc=example"},
		"dc=example":                   {"dc=example", ""},
		"":                             {"", ""},
	} {
		rdn, parent := ldif.SplitDN(dn)
		require.Equal(t, want, [2]string{rdn, parent}, dn)
	}
}
