package e2e

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"os"
	"testing"
	"twinning/internal/core/finding"
	"twinning/internal/core/planning"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/stretchr/testify/require"
)

// Every answer has the form that the contract gives it.
func TestAnswersFitTheContract(t *testing.T) {
	h := newHouse(t)
	spec, err := openapi3.NewLoader().LoadFromFile("../../api/openapi.yaml")
	require.NoError(t, err)
	spec.Servers = openapi3.Servers{{URL: h.url + "/v1"}}
	words := func(list []planning.Word) (names []any) {
		for _, w := range list {
			names = append(names, w.Name)
		}
		return names
	}
	var codes []any
	for _, c := range finding.Catalogue {
		codes = append(codes, c.Name)
	}
	for schema, declared := range map[string][]any{"FindingCode": codes, "Verb": words(planning.Verbs), "Outcome": words(planning.Outcomes)} {
		require.ElementsMatch(t, declared, spec.Components.Schemas[schema].Value.Enum, "the contract's %s are those that are declared", schema)
	}
	for path, item := range spec.Paths.Map() {
		for method, op := range item.Operations() {
			require.Len(t, op.Tags, 1, "%s %s has a tag", method, path)
			require.NotNil(t, spec.Tags.Get(op.Tags[0]), "%s %s: its tag is explained", method, path)
			require.NotEmpty(t, op.Summary, "%s %s", method, path)
			if op.RequestBody == nil || op.RequestBody.Value.Content["application/json"] == nil {
				continue
			}
			if schema := op.RequestBody.Value.Content["application/json"].Schema; schema.Ref != "" {
				require.NotNil(t, schema.Value.Example, "%s %s: its body has an example", method, path)
				require.NoError(t, schema.Value.VisitJSON(schema.Value.Example), "%s %s", method, path)
			}
		}
	}
	status, _, served := h.send("GET", "/openapi.yaml", "", "", nil)
	require.Equal(t, http.StatusOK, status)
	contract, err := os.ReadFile("../../api/openapi.yaml")
	require.NoError(t, err)
	require.Equal(t, string(contract), served, "the contract is served")
	router, err := gorillamux.NewRouter(spec)
	require.NoError(t, err)
	token := h.token("look", "work", "seal", "administer")
	var found struct{ Items []struct{ ID string } }
	require.Equal(t, http.StatusOK, h.call("GET", "/v1/lanes/hq-dome-booking/findings", token, nil, &found))
	for _, c := range []struct {
		method, path, body string
		status             int
	}{
		{"GET", "/me", "", 200}, {"GET", "/users", "", 200}, {"GET", "/systems", "", 200}, {"GET", "/systems/hq", "", 200}, {"GET", "/systems/hq/rosters", "", 200},
		{"GET", "/rosters/1", "", 200}, {"GET", "/rosters/1/records?q=ana&limit=3", "", 200}, {"GET", "/rosters/4/rejections", "", 200},
		{"GET", "/lanes", "", 200}, {"GET", "/lanes/hq-dome-booking", "", 200}, {"GET", "/lanes/hq-dome-booking/charter", "", 200}, {"GET", "/lanes/hq-dome-booking/reconciliations?limit=1", "", 200},
		{"GET", "/lanes/hq-dome-booking/records?side=people&state=contested", "", 200}, {"GET", "/lanes/hq-dome-booking/why?person=L0924", "", 200}, {"GET", "/lanes/hq-dome-booking/why?account=u80010", "", 200},
		{"GET", "/lanes/hq-dome-booking/rulings", "", 200}, {"GET", "/lanes/hq-dome-booking/records?side=people&state=contestd", "", 422}, {"GET", "/lanes/hq-dome-booking/records?side=people&stat=contested", "", 422}, {"GET", "/lanes/hq-dome-booking/findings?code=orphan", "", 422}, {"GET", "/plans/1/changes?verb=delete-all", "", 422}, {"GET", "/lanes/hq-dome-booking/findings?severity=error", "", 200}, {"GET", "/lanes/hq-dome-booking/plans", "", 200},
		{"GET", "/plans/1", "", 200}, {"GET", "/plans/1/changes", "", 200}, {"GET", "/runs/1", "", 200}, {"GET", "/plans/1/runs", "", 200}, {"GET", "/plans/999/runs", "", 404}, {"GET", "/runs/1/receipts", "", 200}, {"GET", "/tasks", "", 200}, {"GET", "/tasks/1", "", 200}, {"GET", "/tasks/8/log", "", 200},
		{"GET", "/freeze", "", 200}, {"GET", "/audit", "", 200}, {"GET", "/audit/check", "", 200},
		{"POST", "/charter-checks", `{"source": "lane: x"}`, 422}, {"GET", "/systems/none", "", 404}, {"GET", "/lanes/hq-dome-booking/records?side=both", "", 422}, {"POST", "/lanes/hq-dome-booking/plans", `{"personIds": 3}`, 422},
		{"POST", "/lanes/hq-dome-booking/plans", `{}`, 201}, {"POST", "/plans/3/seal", `{"hash": "wrong"}`, 409}, {"POST", "/lanes/hq-dome-booking/rulings", `{"kind": "same", "person": "L0924", "account": "nobody", "reason": "x"}`, 404},
		{"POST", "/lanes/hq-dome-booking/rulings", `{"kind": "different", "person": "L0924", "account": "u90925", "reason": "x"}`, 201}, {"POST", "/plans/3/void", "", 200},
		{"PUT", "/lanes/hq-dome-booking/findings/" + found.Items[0].ID + "/acceptance", `{"until": "2027-01-01"}`, 204}, {"PUT", "/lanes/hq-dome-booking/findings/f-1/acceptance", `{}`, 404}, {"POST", "/systems/mail-gate/preview", `{"picks": {"Foo": "email"}}`, 422}, {"POST", "/systems/hq/preview", `{"id": "Foo"}`, 422}, {"POST", "/systems/hq/preview", `{"picks": {"title": "department"}}`, 200}, {"POST", "/lanes/hq-dome-booking/reconciliations", "", 202}, {"POST", "/systems/hq/rosters", "", 202},
		{"POST", "/systems/hq/probe", "", 200}, {"POST", "/systems/hq/preview", `{"first": 2}`, 200}, {"POST", "/systems/mail-gate/preview", `{"picks": {"Name": "title"}, "settings": {"delimiter": ";"}}`, 200},
		{"POST", "/systems/hq/preview", `{"settings": {"url": "ldap://elsewhere"}}`, 422}, {"POST", "/systems/mail-gate/preview", `{"file": "../lock"}`, 422}, {"POST", "/systems/mail-gate/preview", `{"shape": "shape: {}"}`, 422}, {"POST", "/systems/mail-gate/preview", `{"settings": {"path": "/etc/passwd"}}`, 422},
		{"GET", "/systems/hq/history?id=L0950", "", 200}, {"GET", "/systems/hq/history?id=L0950&at=2020-01-01", "", 200}, {"GET", "/systems/hq/history?id=none", "", 404},
		{"GET", "/rosters/7/left-out", "", 200}, {"GET", "/rosters/7/statistics", "", 200}, {"GET", "/rosters/7/statistics", "", 200}, {"GET", "/rosters/7/comparison?kind=changed&limit=2", "", 200}, {"GET", "/rosters/1/comparison", "", 404},
		{"GET", "/key-survey?authority=hq&downstream=night-log", "", 200}, {"GET", "/key-survey?authority=hq&downstream=none", "", 404},
		{"GET", "/rosters/7/export?format=csv&columns=none", "", 422}, {"GET", "/lanes/hq-dome-booking/template?format=pdf", "", 422}, {"POST", "/tasks/1/halt", "", 409},
		{"POST", "/systems/hq/files", "", 415}, {"POST", "/systems/hq/rosters?extent=sample", "", 422},
		{"PUT", "/systems/new", `{"kind": "scim", "settings": {"url": "https://x.example"}, "secret": "s"}`, 200}, {"PUT", "/systems/new", `{"kind": "scim", "settings": {"url": "nowhere"}}`, 422}, {"DELETE", "/systems/new", "", 204}, {"DELETE", "/systems/hq", "", 409},
	} {
		var body io.Reader
		if c.body != "" {
			body = bytes.NewReader([]byte(c.body))
		}
		req, err := http.NewRequest(c.method, h.url+"/v1"+c.path, body)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		if c.body != "" {
			req.Header.Set("Content-Type", "application/json")
		}
		route, params, err := router.FindRoute(req)
		require.NoError(t, err, c.path)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		answer, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		require.Equal(t, c.status, res.StatusCode, "%s %s: %s", c.method, c.path, answer)
		in := &openapi3filter.ResponseValidationInput{
			RequestValidationInput: &openapi3filter.RequestValidationInput{Request: req, PathParams: params, Route: route},
			Status:                 res.StatusCode, Header: res.Header, Body: io.NopCloser(bytes.NewReader(answer)),
		}
		require.NoError(t, openapi3filter.ValidateResponse(context.Background(), in), "%s %s", c.method, c.path)
	}
}
