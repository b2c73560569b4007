package ldapdir_test

import (
	"context"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"os"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"twinning/internal/connector"
	"twinning/internal/connector/connectortest"
	"twinning/internal/connector/ldapdir"
	"twinning/internal/core/record"
	"twinning/internal/standin/directory"
)

// withClasses are three people, the first with what shells ask for.
var withClasses = tree(3) + "dn: uid=shell,ou=people," + suffix + "\nobjectClass: inetOrgPerson\nobjectClass: posixAccount\nuid: shell\ncn: Shell\nsn: S\nuidNumber: 7\ngidNumber: 7\nhomeDirectory: /home/shell\n\n"

// admin is a connection beside the connector's.
func admin(t *testing.T, s *directory.Server) *ldap.Conn {
	t.Helper()
	c, err := ldap.DialURL(s.URL)
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	require.NoError(t, c.Bind(s.Admin(), directory.Secret))
	return c
}

// A certificate is transferred in binary form, whatever the shape and the server call it; who
// writes it under a name that the server does not take is told so.
func TestBinaryTransfer(t *testing.T) {
	ctx := context.Background()
	s := serve(t, directory.Config{}, tree(1))
	text, err := os.ReadFile(s.CAFile)
	require.NoError(t, err)
	block, _ := pem.Decode(text)
	_, err = x509.ParseCertificate(block.Bytes)
	require.NoError(t, err)
	coded := base64.StdEncoding.EncodeToString(block.Bytes)
	for _, native := range []string{"userCertificate;binary", "userCertificate", "USERCERTIFICATE;BINARY"} {
		shape := record.Shape{Mark: "employeeNumber", Attributes: map[string]record.Source{"id": {Native: "entryUUID"}, "userName": {Native: "uid"}, "title": {Native: native, Coding: "base64"}}}
		c, err := ldapdir.New(connector.Config{Settings: map[string]string{"url": s.URL, "ca-file": s.CAFile, "bind": s.Admin(), "base": "ou=people," + suffix}, Secret: directory.Secret, Shape: shape})
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.(connector.Closer).Close() })
		was := connectortest.Read(t, c).Records[0]
		after, err := c.Write(ctx, connector.Write{Record: &was, Edits: []connector.Edit{edit(native, coded)}})
		if native == "userCertificate" && err != nil {
			require.Equal(t, connector.Refused, connector.KindOf(err))
			require.ErrorContains(t, err, "binary")
			continue
		}
		require.NoError(t, err, native)
		require.Equal(t, []string{coded}, after.Values[native])
		require.Equal(t, []string{coded}, connectortest.Read(t, c).Records[0].Values[native])
		_, err = c.Write(ctx, connector.Write{Record: &after, Edits: []connector.Edit{edit(native)}})
		require.NoError(t, err)
	}
}

// A secret that the directory's policy does not like is refused in the directory's words, without
// the secret, and the old one stays.
func TestSecretsRefusedByPolicy(t *testing.T) {
	ctx := context.Background()
	policy := "dn: cn=strict," + suffix + "\nobjectClass: device\nobjectClass: pwdPolicy\ncn: strict\npwdAttribute: userPassword\npwdMinLength: 16\npwdCheckQuality: 2\n\n"
	s := serve(t, directory.Config{Policy: "cn=strict," + suffix}, tree(1)+policy)
	c := connect(t, s, "url", s.Secure, "bind", s.Reader())
	one := connectortest.Read(t, c).Records[0]
	long, short := "a long one of many letters", "sh0rt-One"
	require.NoError(t, c.(connector.Reissuer).Reissue(ctx, one, long))
	err := c.(connector.Reissuer).Reissue(ctx, one, short)
	require.Equal(t, connector.Refused, connector.KindOf(err), "%v", err)
	require.ErrorContains(t, err, "Password fails quality checking policy")
	require.NotContains(t, err.Error(), short)
	for secret, has := range map[string]bool{long: true, short: false} {
		proved, err := c.(connector.Prover).Proves(ctx, one, secret)
		require.NoError(t, err)
		require.Equal(t, has, proved)
	}
}

// An object class that went, or never was there, makes a change refused as a whole, in words that
// name the attribute; nothing of it is done.
func TestClassesChangedMeanwhile(t *testing.T) {
	ctx := context.Background()
	s := serve(t, directory.Config{}, withClasses)
	c := connect(t, s, "attributes", "loginShell,objectClass")
	find := func(uid string) connector.Record {
		list, err := c.Find(ctx, "uid", uid)
		require.NoError(t, err)
		require.Len(t, list, 1)
		return list[0]
	}
	was := find("shell")
	changed, err := c.Write(ctx, connector.Write{Record: &was, Edits: []connector.Edit{edit("loginShell", "/bin/sh"), edit("title", "Cook")}})
	require.NoError(t, err)
	away := ldap.NewModifyRequest("uid=shell,ou=people,"+suffix, nil)
	away.Delete("objectClass", []string{"posixAccount"})
	for _, name := range []string{"loginShell", "uidNumber", "gidNumber", "homeDirectory"} {
		away.Delete(name, nil)
	}
	require.NoError(t, admin(t, s).Modify(away))
	for name, rec := range map[string]connector.Record{"as it was read before": changed, "as it is": find("shell"), "of somebody who never had it": find("p00001")} {
		_, err = c.Write(ctx, connector.Write{Record: &rec, Edits: []connector.Edit{edit("loginShell", "/bin/bash"), edit("title", "Driver")}})
		kind := connector.KindOf(err)
		require.True(t, kind == connector.Refused || kind == connector.Stale && name == "as it was read before", "%s: %v", name, err)
		if kind == connector.Refused {
			require.ErrorContains(t, err, "loginShell")
			require.ErrorContains(t, err, "the directory's schema does not allow it")
		}
	}
	require.Equal(t, []string{"Cook"}, find("shell").Values["title"], "nothing of it was done")
	require.Empty(t, find("p00001").Values["title"])
}
