package scim

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/connector"
)

// What becomes of the addresses of a user: - leaves that half alone.
func TestEmails(t *testing.T) {
	for _, c := range []struct{ name, list, primary, other, want string }{
		{"a create", ``, "a@x", "b@x", `[{"value":"a@x","type":"work","primary":true},{"value":"b@x","type":"other"}]`},
		{"a create with three", ``, "a@x", "b@x c@x", `[{"value":"a@x","type":"work","primary":true},{"value":"b@x","type":"other"},{"value":"c@x"}]`},
		{"the former is kept", `[{"value":"o@x","type":"work","primary":true,"display":"O"},{"value":"h@x","type":"home"}]`, "n@x", "h@x o@x",
			`[{"value":"n@x","type":"work","primary":true},{"value":"h@x","type":"home"},{"value":"o@x","display":"O","type":"other"}]`},
		{"the former is kept where another has the type", `[{"value":"o@x","type":"work","primary":true},{"value":"h@x","type":"other"}]`, "n@x", "h@x o@x",
			`[{"value":"n@x","type":"work","primary":true},{"value":"h@x","type":"other"},{"value":"o@x"}]`},
		{"the former is dropped", `[{"value":"o@x","type":"work","primary":true},{"value":"h@x","type":"home","primary":false}]`, "n@x", "h@x",
			`[{"value":"n@x","type":"work","primary":true},{"value":"h@x","type":"home","primary":false}]`},
		{"an alias becomes the primary", `[{"value":"o@x","type":"work","primary":true},{"value":"N@x","type":"other","display":"N"}]`, "n@x", "o@x",
			`[{"value":"N@x","type":"work","primary":true,"display":"N"},{"value":"o@x","type":"other"}]`},
		{"without types", `[{"value":"o@x","primary":true},{"value":"n@x","type":"home"}]`, "n@x", "o@x", `[{"value":"n@x","type":"home","primary":true},{"value":"o@x"}]`},
		{"none is marked", `[{"value":"o@x","type":"work"},{"value":"h@x"}]`, "n@x", "h@x", `[{"value":"n@x","type":"work","primary":true},{"value":"h@x"}]`},
		{"the first is the primary and is told so", `[{"value":"o@x"},{"value":"h@x"}]`, "o@x", "-", `[{"value":"o@x","primary":true},{"value":"h@x"}]`},
		{"only the others", `[{"value":"o@x","type":"work","primary":true},{"value":"h@x","custom":{"k":1}}]`, "-", "h@x i@x", `[{"value":"o@x","type":"work","primary":true},{"value":"h@x","custom":{"k":1}},{"value":"i@x"}]`},
		{"the primary goes", `[{"value":"o@x","primary":true},{"value":"h@x"}]`, "", "-", `[{"value":"h@x"}]`},
		{"all go", `[{"value":"o@x","primary":true}]`, "", "", `null`},
		{"plain texts", `["o@x","h@x"]`, "n@x", "h@x", `[{"value":"n@x","primary":true},"h@x"]`},
		{"two are marked, and one becomes it", `[{"value":"a@x","primary":true},{"value":"b@x","primary":true}]`, "b@x", "a@x", `[{"value":"b@x","primary":true},{"value":"a@x"}]`},
		{"two are marked, and another becomes it", `[{"value":"a@x","primary":true},{"value":"b@x","primary":true}]`, "n@x", "a@x b@x", `[{"value":"n@x","primary":true},{"value":"b@x"},{"value":"a@x"}]`},
		{"two are marked, and nothing is said of that", `[{"value":"a@x","primary":true},{"value":"b@x","primary":true}]`, "-", "c@x", `[{"value":"a@x","primary":true},{"value":"b@x","primary":true},{"value":"c@x"}]`},
		{"none is marked, and nothing is said of that", `[{"value":"a@x"},{"value":"b@x"}]`, "-", "b@x c@x", `[{"value":"a@x"},{"value":"b@x"},{"value":"c@x"}]`},
		{"somebody lists one twice", `[{"value":"o@x","type":"work","primary":true},{"value":"O@x","type":"home"}]`, "-", "o@x", `[{"value":"o@x","type":"work","primary":true},{"value":"O@x","type":"home"}]`},
	} {
		top := map[string]any{}
		if c.list != "" {
			require.NoError(t, json.Unmarshal([]byte(`{"emails":`+c.list+`}`), &top), c.name)
		}
		var edits []connector.Edit
		for native, value := range map[string]string{"emails.primary": c.primary, "emails.other": c.other} {
			if value != "-" {
				edits = append(edits, connector.Edit{Native: native, New: strings.Fields(value)})
			}
		}
		mergeEmails(top, edits)
		got, err := json.Marshal(top["emails"])
		require.NoError(t, err)
		require.JSONEq(t, c.want, string(got), c.name)
	}
}
