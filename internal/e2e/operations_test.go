package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/require"

	"twinning/internal/service"
	"twinning/internal/store"
)

// operation is one of the contract's, with a request that has all that it needs.
type operation struct {
	method, path, right string
	*openapi3.Operation
}

func operations(t *testing.T) (list []operation) {
	t.Helper()
	spec, err := openapi3.NewLoader().LoadFromFile("../../api/openapi.yaml")
	require.NoError(t, err)
	for _, path := range slices.Sorted(maps.Keys(spec.Paths.Map())) {
		item := spec.Paths.Value(path)
		for _, method := range slices.Sorted(maps.Keys(item.Operations())) {
			op := item.Operations()[method]
			right, _ := op.Extensions["x-right"].(string)
			list = append(list, operation{method, path, right, op})
		}
	}
	require.Greater(t, len(list), 100)
	return list
}

var placeholder = regexp.MustCompile(`\{(\w+)\}`)

// at is the operation's address with these parameters; what they do not name takes its example.
func (o operation) at(params map[string]string) string {
	path := placeholder.ReplaceAllStringFunc(o.path, func(p string) string {
		if v := params[strings.Trim(p, "{}")]; v != "" {
			return url.PathEscape(v)
		}
		return "1"
	})
	query := url.Values{}
	for _, p := range o.Parameters {
		if p.Value.In == "query" && p.Value.Required {
			query.Set(p.Value.Name, "hq")
		}
	}
	return path + "?" + query.Encode()
}

// try sends the operation and gives the status alone, since some answers never end.
func (h *house) tried(o operation, token string, params map[string]string) (int, http.Header) {
	h.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	body, media := []byte(nil), ""
	if o.RequestBody != nil {
		switch content := o.RequestBody.Value.Content; {
		case content[jsonType] != nil:
			example := content[jsonType].Schema.Value.Example
			body, media = []byte("{}"), jsonType
			if b, err := json.Marshal(example); err == nil && example != nil {
				body = b
			}
		case content[fileType] != nil:
			body, media = []byte("id\n1\n"), fileType
		}
	}
	req, err := http.NewRequestWithContext(ctx, o.method, h.url+"/v1"+o.at(params), bytes.NewReader(body))
	require.NoError(h.t, err)
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	if media != "" {
		req.Header.Set("Content-Type", media)
	}
	req.Header.Set("Idempotency-Key", "a key for "+o.OperationID)
	res, err := http.DefaultClient.Do(req)
	require.NoError(h.t, err, o.OperationID)
	require.NoError(h.t, res.Body.Close())
	return res.StatusCode, res.Header
}

// ofLane are the parameters by which an operation is about a lane.
var ofLane = []string{"lane", "plan", "run"}

// Every operation of the contract is closed to whoever has not its right, and open to whoever
// has: everywhere, or in the lane that it is about and in no other. What it gives out as a secret
// it says, and whether it may be named.
func TestEveryOperation(t *testing.T) {
	h := newHouse(t)
	ctx, s := context.Background(), h.app.Service
	all := []string{"look", "work", "seal", "overrule", "administer"}
	user := func(name string, g service.Granted) string {
		_, err := s.AddUser(ctx, admin, name, g, "")
		require.NoError(t, err)
		token, _, err := s.AddToken(ctx, admin, name, "test", 1)
		require.NoError(t, err)
		return token
	}
	without, within := map[string]string{}, map[string]string{}
	for _, right := range all {
		without[right] = user("without-"+right, service.Granted{Rights: slices.DeleteFunc(slices.Clone(all), func(r string) bool { return r == right })})
		if right != "administer" && right != "look" { // systems and rosters are shared by lanes
			within[right] = user("within-"+right, service.Granted{Lanes: map[string][]string{lane: {right}}})
		}
	}
	// what is of the one lane, and of another
	newest := func(lane string) string {
		list, _, err := s.Plans(ctx, lane, store.Page{Limit: 1})
		require.NoError(t, err)
		if len(list) == 0 {
			return "999999"
		}
		return fmt.Sprint(list[0].ID)
	}
	here := map[string]string{"lane": lane, "plan": newest(lane), "run": "1"}
	there := map[string]string{"lane": merger, "plan": newest(merger), "run": "999999"}
	secrets, named, checked := 0, 0, 0
	for _, o := range operations(t) {
		says := fmt.Sprintf("%s %s (%s)", o.method, o.path, o.right)
		if o.right == "none" {
			continue
		}
		status, _ := h.tried(o, "", here)
		require.Equal(t, http.StatusUnauthorized, status, "%s: nobody", says)
		if o.right != "self" {
			require.Contains(t, all, o.right, says)
			status, _ = h.tried(o, without[o.right], here)
			require.Equal(t, http.StatusForbidden, status, "%s: whoever has every other right", says)
			checked++
		}
		about := slices.ContainsFunc(ofLane, func(p string) bool { return strings.Contains(o.path, "{"+p+"}") })
		if token := within[o.right]; token != "" {
			status, _ = h.tried(o, token, there)
			require.Equal(t, http.StatusForbidden, status, "%s: whoever has it in another lane", says)
			if !about && !strings.Contains(o.path, "{task}") {
				status, _ = h.tried(o, token, here)
				require.Equal(t, http.StatusForbidden, status, "%s: it is of no lane", says)
			}
		}

		declared := slices.ContainsFunc(o.Parameters, func(p *openapi3.ParameterRef) bool { return p.Value.Name == "Idempotency-Key" })
		if declared {
			named++
			require.Equal(t, http.MethodPost, o.method, "%s: what is put or deleted twice is as it was after once", says)
		}
		secret := o.Extensions["x-secret"] == true
		if secret {
			secrets++
		}
		require.Equal(t, secret, tells(o), "%s: it is a secret that its answer tells", says)
	}
	require.Greater(t, checked, 90)
	require.Greater(t, named, 10)
	require.Equal(t, 3, secrets)

	// whoever has the right in the lane is let through; last, since much is done by it
	for _, o := range operations(t) {
		if token := within[o.right]; token != "" && slices.ContainsFunc(ofLane, func(p string) bool { return strings.Contains(o.path, "{"+p+"}") }) {
			status, _ := h.tried(o, token, here)
			require.NotContains(t, []int{http.StatusUnauthorized, http.StatusForbidden}, status, "%s %s", o.method, o.path)
			require.Less(t, status, 500, "%s %s", o.method, o.path)
			if !slices.ContainsFunc(o.Parameters, func(p *openapi3.ParameterRef) bool { return p.Value.Name == "Idempotency-Key" }) {
				_, header := h.tried(o, token, here)
				require.Empty(t, header.Get("Idempotency-Replayed"), "%s %s: a key that it does not declare names nothing", o.method, o.path)
			}
		}
	}
}

var secretive = regexp.MustCompile(`(?i)^(secret|token|password|passphrase)$`)

// tells reports whether a good answer has a secret in it: by the name of a member, or as the file
// of secrets that it is.
func tells(o operation) bool {
	for status, r := range o.Responses.Map() {
		if !strings.HasPrefix(status, "2") {
			continue
		}
		for media, content := range r.Value.Content {
			if media == fileType && strings.Contains(o.path, "secret") || content.Schema != nil && holdsSecret(content.Schema.Value, 0) {
				return true
			}
		}
	}
	return false
}

func holdsSecret(s *openapi3.Schema, depth int) bool {
	if s == nil || depth > 6 {
		return false
	}
	for name, p := range s.Properties {
		if secretive.MatchString(name) && p.Value.Type.Is("string") || holdsSecret(p.Value, depth+1) {
			return true
		}
	}
	return s.Items != nil && holdsSecret(s.Items.Value, depth+1)
}
