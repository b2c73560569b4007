package e2e

import (
	"context"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"testing"
	"twinning/internal/service"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/require"
)

// Every route of the contract × no token, a wrong token, too little right, and
// with the right: then whatever comes, it is no refusal of the caller.
func TestEveryRouteIsAuthorised(t *testing.T) {
	h := newHouse(t)
	spec, err := openapi3.NewLoader().LoadFromFile("../../api/openapi.yaml")
	require.NoError(t, err)
	tokens := map[string]string{}
	rights := []string{"look", "work", "seal", "overrule", "administer"}
	for _, r := range rights {
		tokens[r] = h.token(r)
		others := []string{}
		for _, o := range rights {
			if o != r {
				others = append(others, o)
			}
		}
		tokens["not "+r] = h.token(others...)
	}
	fill := regexp.MustCompile(`\{[a-z]+\}`)
	checked := 0
	for path, item := range spec.Paths.Map() {
		for method, op := range item.Operations() {
			right, _ := op.Extensions["x-right"].(string)
			require.NotEmpty(t, right, "%s %s names no right", method, path)
			address := "/v1" + fill.ReplaceAllString(path, "999999")
			require.NotEmpty(t, op.Summary)
			checked++
			if right == "none" {
				continue
			}
			var body any
			if op.RequestBody != nil {
				body = map[string]any{}
			}
			require.Equal(t, http.StatusUnauthorized, h.call(method, address, "", body, nil), "%s %s without a token", method, path)
			require.Equal(t, http.StatusUnauthorized, h.call(method, address, "tw_wrong", body, nil), "%s %s with a wrong token", method, path)
			if right == "self" {
				continue
			}
			require.Equal(t, http.StatusForbidden, h.call(method, address, tokens["not "+right], body, nil), "%s %s with every right but %s", method, path, right)
			asks := slices.ContainsFunc(op.Parameters, func(p *openapi3.ParameterRef) bool { return p.Value.Required })
			if method == http.MethodGet && !asks {
				require.Equal(t, http.StatusOK, h.call(method, address, tokens[right], nil, nil), "%s %s with the right", method, path)
			} else {
				got := h.call(method, address, tokens[right], body, nil)
				require.NotContains(t, []int{http.StatusUnauthorized, http.StatusForbidden, http.StatusInternalServerError}, got, "%s %s with the right", method, path)
			}
		}
	}
	require.Greater(t, checked, 50)
	require.Equal(t, http.StatusNotFound, h.call("GET", "/v1/nowhere", tokens["look"], nil, nil))
	require.Equal(t, http.StatusOK, h.call("GET", "/readyz", "", nil, nil))
}

// A console session is refused to other sites, sign-in is slowed, and no
// secret ever comes back.
func TestSessionsAndSecrets(t *testing.T) {
	h := newHouse(t)
	for range 5 {
		require.Equal(t, http.StatusUnauthorized, h.call("POST", "/v1/sign-in", "", map[string]string{"name": "admin", "password": "guess"}, nil))
	}
	require.Equal(t, http.StatusTooManyRequests, h.call("POST", "/v1/sign-in", "", map[string]string{"name": "admin", "password": h.app.Password}, nil), "the sixth try waits, even if right")

	who, err := h.app.Service.AddUser(context.Background(), admin, "eva", service.Granted{Rights: []string{"look", "work"}}, "four harbours and a lamp")
	require.NoError(t, err)
	in, err := h.app.Service.SignIn(context.Background(), service.SigningIn{Name: who.Name, Password: "four harbours and a lamp"})
	require.NoError(t, err)
	for site, want := range map[string]int{"same-origin": http.StatusOK, "cross-site": http.StatusForbidden} {
		req, err := http.NewRequest("PUT", h.url+"/v1/freeze", strings.NewReader(`{"on": true}`))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Sec-Fetch-Site", site)
		req.AddCookie(&http.Cookie{Name: "twinning_session", Value: in.Secret})
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		require.Equal(t, want, res.StatusCode, site)
	}
	var system map[string]any
	require.Equal(t, http.StatusOK, h.call("GET", "/v1/systems/dome-booking", h.token("look"), nil, &system))
	require.Equal(t, true, system["hasSecret"])
	require.NotContains(t, system, "secret")
	require.Equal(t, http.StatusForbidden, h.call("PUT", "/v1/freeze", h.token("work"), map[string]any{"on": false}, nil), "thawing needs overrule")
}
