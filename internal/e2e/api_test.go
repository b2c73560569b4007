package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/require"

	"twinning/api"
)

// The rules that hold for every operation, tried on one of each kind.
func TestRulesOfTheAPI(t *testing.T) {
	h := newHouse(t)
	all := h.token("look", "work", "administer")
	type problem struct {
		Type   string
		Next   string
		Errors []struct {
			Detail, Field string
			Line          int
		}
	}
	told := func(text string) (p problem) {
		require.NoError(t, json.Unmarshal([]byte(text), &p), text)
		return p
	}

	t.Run("an edit says what it changes", func(t *testing.T) {
		status, header, text := h.send("GET", "/v1/lanes/hq-dome-booking/charter", all, "", nil)
		require.Equal(t, 200, status)
		var charter struct {
			Source  string
			Version int
		}
		require.NoError(t, json.Unmarshal([]byte(text), &charter))
		other, err := json.Marshal(map[string]string{"source": charter.Source + "# another word\n"})
		require.NoError(t, err)
		same, err := json.Marshal(map[string]string{"source": charter.Source})
		require.NoError(t, err)
		put := func(body []byte, more ...string) (int, problem) {
			status, _, text := h.send("PUT", "/v1/lanes/hq-dome-booking/charter", all, jsonType, body, more...)
			return status, told(text)
		}
		status, p := put(other)
		require.Equal(t, http.StatusPreconditionRequired, status)
		require.Equal(t, "urn:twinning:precondition-required", p.Type)
		require.Contains(t, p.Next, "If-Match")
		status, p = put(other, "If-Match", `"99-abc"`)
		require.Equal(t, http.StatusPreconditionFailed, status)
		require.Equal(t, "urn:twinning:changed", p.Type)
		status, _ = put(other, "If-Match", header.Get("ETag"))
		require.Equal(t, 200, status)
		status, _ = put(other, "If-Match", header.Get("ETag"))
		require.Equal(t, 200, status, "what is there already is no change: an answer may have been lost")
		status, _ = put(same, "If-Match", header.Get("ETag"))
		require.Equal(t, http.StatusPreconditionFailed, status)
		status, _ = put(same, "If-Match", "*")
		require.Equal(t, 200, status, "whatever there is")
	})

	t.Run("two administrators change one user", func(t *testing.T) {
		require.Equal(t, http.StatusCreated, h.call("POST", "/v1/users", all, map[string]any{"name": "eva", "rights": []string{"look"}}, nil))
		_, header, _ := h.send("GET", "/v1/users/eva", all, "", nil)
		change := func(body string, more ...string) int {
			status, _, _ := h.send("PUT", "/v1/users/eva", all, jsonType, []byte(body), more...)
			return status
		}
		require.Equal(t, http.StatusPreconditionRequired, change(`{"rights": ["look", "work"]}`))
		require.Equal(t, 200, change(`{"rights": ["look", "work"]}`, "If-Match", header.Get("ETag")))
		require.Equal(t, http.StatusPreconditionFailed, change(`{"rights": []}`, "If-Match", header.Get("ETag")), "the other saw eva as she was before")
		require.Equal(t, 200, change(`{"rights": ["look"]}`, "If-Match", "*"))
	})

	t.Run("who polls is told nothing twice", func(t *testing.T) {
		for _, path := range []string{"/v1/systems/hq", "/v1/lanes", "/v1/lanes/hq-dome-booking/findings", "/v1/rosters/1/records?limit=2"} {
			_, header, _ := h.send("GET", path, all, "", nil)
			tag := header.Get("ETag")
			require.NotEmpty(t, tag, path)
			status, again, text := h.send("GET", path, all, "", nil, "If-None-Match", `"x", W/`+tag)
			require.Equal(t, http.StatusNotModified, status, path)
			require.Empty(t, text)
			require.Equal(t, tag, again.Get("ETag"))
		}
		_, header, _ := h.send("GET", "/v1/systems/dome-booking", all, "", nil)
		require.Equal(t, 200, h.call("PUT", "/v1/systems/dome-booking/writing", all, map[string]any{"on": true}, nil))
		status, _, _ := h.send("GET", "/v1/systems/dome-booking", all, "", nil, "If-None-Match", header.Get("ETag"))
		require.Equal(t, 200, status, "the validator changes with what is shown")
	})

	t.Run("a cursor is its list's own", func(t *testing.T) {
		const list = "/v1/lanes/hq-dome-booking/records?side=people&limit=2"
		var page struct {
			Cursor string
			Total  int
			Items  []struct{ ID, Label string }
		}
		require.Equal(t, 200, h.call("GET", list, all, nil, &page))
		require.Zero(t, page.Total, "nobody asked how many there are")
		first, next := page.Items[0].ID, page.Cursor
		require.NotEmpty(t, next)
		require.Equal(t, 200, h.call("GET", list+"&cursor="+next, all, nil, &page))
		require.NotEqual(t, first, page.Items[0].ID)
		require.Equal(t, 200, h.call("GET", strings.Replace(list, "limit=2", "limit=5", 1)+"&cursor="+next, all, nil, nil), "a page may be of another size")
		for _, sorted := range []string{"/v1/lanes/hq-dome-booking/records?side=people", "/v1/lanes/hq-dome-booking/findings?q=", "/v1/plans/1/changes?q="} {
			read := func(sort string) (ids []string) {
				for next := "&count=true"; ; next = "&cursor=" + page.Cursor {
					page.Items, page.Cursor = nil, ""
					require.Equal(t, 200, h.call("GET", sorted+"&limit=7"+sort+next, all, nil, &page), sorted+sort+next)
					for _, x := range page.Items {
						ids = append(ids, x.ID)
					}
					if page.Cursor == "" {
						require.Len(t, ids, page.Total, "%s%s: each once", sorted, sort)
						return ids
					}
				}
			}
			own, named, back := read(""), read("&sort=name"), read("&sort=-name")
			require.ElementsMatch(t, own, named, sorted)
			require.NotEqual(t, own, named, sorted)
			slices.Reverse(back)
			require.Equal(t, named, back, sorted)
		}
		for _, other := range []string{list + "&sort=name&cursor=", list + "&q=a&cursor=", "/v1/lanes/hq-dome-booking/records?side=accounts&cursor=", "/v1/lanes/hq-mail-gate/records?side=people&cursor=", "/v1/tasks?cursor="} {
			status, _, text := h.send("GET", other+next, all, "", nil)
			require.Equal(t, http.StatusUnprocessableEntity, status, other)
			require.Equal(t, "urn:twinning:cursor-of-another-list", told(text).Type)
		}
		status, _, _ := h.send("GET", "/v1/tasks?cursor=OTk5OTk5OTk5OTk5OTk5OTk5OTk5OQ", all, "", nil)
		require.Equal(t, http.StatusUnprocessableEntity, status, "nobody gave it")
		var task struct {
			ID    int
			Ended *time.Time
		}
		require.Equal(t, http.StatusAccepted, h.call("POST", "/v1/lanes/hq-dome-booking/reconciliations", all, nil, &task))
		require.Eventually(t, func() bool {
			return h.call("GET", fmt.Sprintf("/v1/tasks/%d", task.ID), all, nil, &task) == 200 && task.Ended != nil
		}, 30*time.Second, 50*time.Millisecond)
		status, _, _ = h.send("GET", list+"&cursor="+next, all, "", nil)
		require.Equal(t, http.StatusUnprocessableEntity, status, "it is of the result before")
	})

	t.Run("every fault at once", func(t *testing.T) {
		status, _, text := h.send("POST", "/v1/lanes/hq-dome-booking/plans", all, jsonType, []byte(`{"personIds": 3, "waves": "pilot"}`))
		require.Equal(t, http.StatusUnprocessableEntity, status)
		p := told(text)
		require.Equal(t, "urn:twinning:request-invalid", p.Type)
		require.Len(t, p.Errors, 2, text)
		status, _, text = h.send("POST", "/v1/charter-checks", all, jsonType, []byte(`{"source": "lane: x\npeple: {from: hq}\nintent: maybe\n"}`))
		require.Equal(t, http.StatusUnprocessableEntity, status)
		p = told(text)
		require.Equal(t, "urn:twinning:document-invalid", p.Type)
		require.GreaterOrEqual(t, len(p.Errors), 3)
		require.Equal(t, 2, p.Errors[3].Line, text)
	})

	t.Run("long work says where it is, and what changes is told", func(t *testing.T) {
		ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
		defer cancel()
		req, err := http.NewRequestWithContext(ctx, "GET", h.url+"/v1/events", nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+all)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer res.Body.Close() // read as far as it is needed
		name := []string{"Idempotency-Key", "one-roster-please"}
		status, header, text := h.send("POST", "/v1/systems/hq/rosters", all, "", nil, name...)
		require.Equal(t, http.StatusAccepted, status, text)
		var task struct{ ID int }
		require.NoError(t, json.Unmarshal([]byte(text), &task))
		require.Equal(t, fmt.Sprintf("/v1/tasks/%d", task.ID), header.Get("Location"))
		_, again, _ := h.send("POST", "/v1/systems/hq/rosters", all, "", nil, name...)
		require.Equal(t, header.Get("Location"), again.Get("Location"), "also when it is answered again")
		acted, ended, number := false, false, ""
		lines := bufio.NewScanner(res.Body)
		for lines.Scan() && !(acted && ended) {
			l := lines.Text()
			if id, ok := strings.CutPrefix(l, "id: "); ok && !acted {
				number = id
			}
			acted = acted || strings.Contains(l, `"action":"roster.take","subject":"hq"`)
			ended = ended || strings.Contains(l, fmt.Sprintf(`"id":%d,`, task.ID)) && strings.Contains(l, `"ended":"`)
			require.NotContains(t, l, "token.add", "users are nobody's business here")
		}
		require.True(t, acted && ended, "the act %t, the task's end %t", acted, ended)
		require.NotEmpty(t, number)
	})

	t.Run("who loses the right hears nothing more", func(t *testing.T) {
		for name, lose := range map[string]func(user string){
			"removed": func(user string) {
				require.Equal(t, http.StatusNoContent, h.call("DELETE", "/v1/users/"+user, all, nil, nil))
			},
			"without the right": func(user string) {
				var v struct{ Version int64 }
				require.Equal(t, http.StatusOK, h.call("PUT", "/v1/users/"+user, all, map[string]any{"rights": []string{}}, &v))
			},
		} {
			user := "listener-" + strings.ReplaceAll(name, " ", "-")
			require.Equal(t, http.StatusCreated, h.call("POST", "/v1/users", all, map[string]any{"name": user, "rights": []string{"look"}}, nil))
			var made struct{ Secret string }
			require.Equal(t, http.StatusCreated, h.call("POST", "/v1/users/"+user+"/tokens", all, map[string]any{"name": "t"}, &made))
			ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
			req, err := http.NewRequestWithContext(ctx, "GET", h.url+"/v1/events", nil)
			require.NoError(t, err)
			req.Header.Set("Authorization", "Bearer "+made.Secret)
			res, err := http.DefaultClient.Do(req)
			require.NoError(t, err)
			require.Equal(t, http.StatusOK, res.StatusCode)
			lose(user)
			_, err = io.Copy(io.Discard, res.Body)
			require.NoError(t, err, "%s: it ends, and is not cut off by the test", name)
			require.NoError(t, res.Body.Close())
			cancel()
		}
	})
}

// Whatever the contract lets a request do once is named there, and no answer that holds a secret
// can be had again.
func TestRequestsThatNameThemselves(t *testing.T) {
	doc, err := openapi3.NewLoader().LoadFromData(api.Contract)
	require.NoError(t, err)
	named, secret := map[string]bool{}, map[string]bool{}
	for _, path := range doc.Paths.Map() {
		for method, op := range path.Operations() {
			if op.Parameters.GetByInAndName("header", "Idempotency-Key") != nil {
				named[op.OperationID] = true
				require.Equal(t, http.MethodPost, method, "%s: what is put or deleted twice is the same", op.OperationID)
			}
			if op.Extensions["x-secret"] == true {
				secret[op.OperationID] = true
			}
			for status, answer := range op.Responses.Map() {
				if media := answer.Value.Content["application/json"]; strings.HasPrefix(status, "2") && media != nil && media.Schema != nil {
					for name := range media.Schema.Value.Properties {
						require.False(t, (name == "secret" || name == "password") && op.Extensions["x-secret"] != true, "%s answers %s", op.OperationID, name)
					}
				}
			}
		}
	}
	require.Equal(t, map[string]bool{"createToken": true, "resetPassword": true, "collectSecrets": true}, secret)
	require.False(t, named["collectSecrets"] || named["resetPassword"] || named["sealPlan"])

	h := newHouse(t)
	all, other := h.token("look", "work", "administer"), h.token("work", "look")
	send := func(token, path, media, body, key string) (int, http.Header, string) {
		return h.send("POST", path, token, media, []byte(body), "Idempotency-Key", "the-key-of-"+key)
	}
	require.Equal(t, http.StatusOK, h.call("PUT", "/v1/systems/lists", all, map[string]any{"kind": "file", "settings": map[string]string{"id": "id"}}, nil))
	// a file is part of what was asked
	status, _, first := send(all, "/v1/systems/lists/files", fileType, "id,mail\n1,a@l.example\n", "file")
	require.Equal(t, http.StatusCreated, status, first)
	status, header, again := send(all, "/v1/systems/lists/files", fileType, "id,mail\n1,a@l.example\n", "file")
	require.Equal(t, []any{http.StatusCreated, "true", first}, []any{status, header.Get("Idempotency-Replayed"), again})
	status, _, text := send(all, "/v1/systems/lists/files", fileType, "id,mail\n1,b@l.example\n", "file")
	require.Equal(t, http.StatusUnprocessableEntity, status, "the same length and another content: %s", text)
	status, header, text = send(other, "/v1/systems/lists/files", fileType, "id,mail\n1,b@l.example\n", "file")
	require.Equal(t, http.StatusCreated, status, "a key is its user's: %s", text)
	require.Empty(t, header.Get("Idempotency-Replayed"))
	// where the contract does not name it, each is done
	require.Equal(t, http.StatusCreated, h.call("POST", "/v1/users", all, map[string]any{"name": "lena", "rights": []string{"look"}}, nil))
	_, _, one := send(all, "/v1/users/lena/password", "", "", "password")
	_, header, two := send(all, "/v1/users/lena/password", "", "", "password")
	require.NotEqual(t, one, two, "a password is told once")
	require.Empty(t, header.Get("Idempotency-Replayed"))
	// somebody of the same name is somebody else
	act := func(token string) (int, string) {
		status, header, _ := send(token, "/v1/systems/hq/rosters", "", "", "mine")
		return status, header.Get("Idempotency-Replayed")
	}
	lena := func() string {
		var made struct{ Secret string }
		require.Equal(t, http.StatusOK, h.call("PUT", "/v1/users/lena", all, map[string]any{"rights": []string{"work", "look"}}, nil))
		require.Equal(t, http.StatusCreated, h.call("POST", "/v1/users/lena/tokens", all, map[string]any{"name": "t"}, &made))
		return made.Secret
	}
	token := lena()
	status, replayed := act(token)
	require.Equal(t, []any{http.StatusAccepted, ""}, []any{status, replayed})
	_, replayed = act(token)
	require.Equal(t, "true", replayed)
	require.Equal(t, http.StatusNoContent, h.call("DELETE", "/v1/users/lena", all, nil, nil))
	require.Equal(t, http.StatusCreated, h.call("POST", "/v1/users", all, map[string]any{"name": "lena", "rights": []string{"look"}}, nil))
	status, replayed = act(lena())
	require.Equal(t, []any{http.StatusAccepted, ""}, []any{status, replayed})
}
