package ldapdir

import (
	"errors"
	"net/url"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"twinning/internal/connector"
)

// What a result code, or a page that did not come, means for what may be done next.
func TestExplain(t *testing.T) {
	d := &directory{url: &url.URL{Scheme: "ldap"}, host: "dir.larkspur.example:389", bind: "cn=twinning", page: 500}
	for _, c := range []struct {
		code        uint16
		said        string
		kind        connector.Kind
		answered    bool
		next        string
		first, last string // of a page: what a reading does
	}{
		{ldap.LDAPResultBusy, "", connector.Throttled, true, "slower pace", "again", "again"},
		{ldap.LDAPResultUnavailable, "shutting down", connector.Throttled, true, "slower pace", "again", "again"},
		{ldap.ErrorNetwork, "connection reset by peer", connector.Unanswered, false, "its log", "again", "again"},
		{ldap.LDAPResultAdminLimitExceeded, "", connector.Refused, true, "smaller page", "less", "ends"},
		{ldap.LDAPResultSizeLimitExceeded, "", connector.Refused, true, "smaller page", "less", "ends"},
		{ldap.LDAPResultUnwillingToPerform, "paged results cookie is invalid", connector.Refused, true, "unwilling", "ends", "again"},
		{ldap.LDAPResultProtocolError, "cookie", connector.Unanswered, true, "", "ends", "again"},
		{ldap.LDAPResultOther, "internal", connector.Unanswered, true, "", "ends", "ends"},
		{ldap.LDAPResultInsufficientAccessRights, "", connector.Forbidden, true, "the right for cn=twinning", "ends", "ends"},
		{ldap.LDAPResultInvalidCredentials, "", connector.Denied, true, "new secret", "ends", "ends"},
		{ldap.LDAPResultConstraintViolation, "some attributes not unique", connector.Conflict, true, "in use", "ends", "ends"},
		{ldap.LDAPResultConstraintViolation, "too short", connector.Refused, true, "", "ends", "ends"},
		{ldap.LDAPResultEntryAlreadyExists, "", connector.Conflict, true, "in use", "ends", "ends"},
		{ldap.LDAPResultAssertionFailed, "", connector.Stale, true, "", "ends", "ends"},
		{ldap.LDAPResultNoSuchObject, "", connector.NotFound, true, "", "ends", "ends"},
		{ldap.LDAPResultTimeLimitExceeded, "", connector.Refused, true, "partial list", "ends", "ends"},
		{ldap.LDAPResultObjectClassViolation, "", connector.Refused, true, "schema", "ends", "ends"},
	} {
		err := ldap.NewError(c.code, errors.New(c.said))
		var told *connector.Error
		require.ErrorAs(t, d.explain("read", err), &told, c.code)
		require.Equal(t, c.kind, told.Kind, "%d %s: %v", c.code, c.said, told)
		require.Equal(t, c.answered, told.Answered, "%d", c.code)
		require.Contains(t, told.Next, c.next, "%d", c.code)
		for first, want := range map[bool]string{true: c.first, false: c.last} {
			d.page = 500
			got := "ends"
			if d.mayReadAgain(d.explain("read", pageFault(err, first, d.page))) {
				got = map[bool]string{true: "less", false: "again"}[d.page < 500]
			}
			require.Equal(t, want, got, "%d %s, first page %v", c.code, c.said, first)
		}
	}
	require.False(t, d.mayReadAgain(errors.New("the sink stops")))
	require.Error(t, pageFault(ldap.NewError(ldap.LDAPResultSizeLimitExceeded, errors.New("x")), true, smallestPage))
	require.Equal(t, connector.Unanswered, connector.KindOf(d.explain("read", errors.New("unable to read LDAP response packet: EOF"))))
}
