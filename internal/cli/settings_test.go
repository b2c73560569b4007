package cli

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestSettings(t *testing.T) {
	for text, want := range map[string]map[string]string{
		"page=200": {"page": "200"},
		"url=ldap://hq,bind=cn=reader,dc=larkspur,dc=example,base=ou=people,dc=larkspur,dc=example": {"url": "ldap://hq", "bind": "cn=reader,dc=larkspur,dc=example", "base": "ou=people,dc=larkspur,dc=example"},
		`"bind=cn=reader,dc=larkspur,dc=example"`:                                                   {"bind": "cn=reader,dc=larkspur,dc=example"},
		"bind=cn=a,uid=b,ou=c,page=2":                                                               {"bind": "cn=a,uid=b,ou=c", "page": "2"},
		"delimiter=;,encoding=latin-1":                                                              {"delimiter": ";", "encoding": "latin-1"},
		"delimiter=,":                                                                               {"delimiter": ","},
		"filter=":                                                                                   {"filter": ""},
		"filter=(&(l=Cerro Alto)(objectClass=person)),page=2":                                       {"filter": "(&(l=Cerro Alto)(objectClass=person))", "page": "2"},
		"references=member,owner,manager":                                                           {"references": "member,owner,manager"},
	} {
		s := settings{}
		require.NoError(t, s.Set(text), text)
		require.Equal(t, want, map[string]string(s), text)
	}
	require.Error(t, settings{}.Set("page"))
	require.Error(t, settings{}.Set("=x"))
}
