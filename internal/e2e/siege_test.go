package e2e

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var (
	siege  = flag.Duration("siege", 0, "how long TestSiege lasts; 0 leaves it out")
	rounds = flag.Int("rounds", 1, "1 sends a quarter of the hostile words of TestMalformed, more all of them")
)

// workbook is a small one with a sheet that unpacks to very much.
func workbook(t *testing.T, rows int) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, text := range map[string]string{
		"[Content_Types].xml":        `<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/><Override PartName="/xl/workbook.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml"/><Override PartName="/xl/worksheets/sheet1.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml"/></Types>`,
		"_rels/.rels":                `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="rId1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/officeDocument" Target="xl/workbook.xml"/></Relationships>`,
		"xl/workbook.xml":            `<workbook xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main" xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"><sheets><sheet name="a" sheetId="1" r:id="rId1"/></sheets></workbook>`,
		"xl/_rels/workbook.xml.rels": `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="rId1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/worksheet" Target="worksheets/sheet1.xml"/></Relationships>`,
		"xl/worksheets/sheet1.xml":   `<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheetData>` + strings.Repeat(`<row><c t="inlineStr"><is><t>id</t></is></c><c t="inlineStr"><is><t>name</t></is></c></row>`, rows) + `</sheetData></worksheet>`,
	} {
		w, err := z.Create(name)
		require.NoError(t, err)
		_, err = io.WriteString(w, text)
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.Bytes()
}

// Everything that once killed or blocked the service, at once and again and again,
// against a service in a process of its own: its memory stays below a gibibyte,
// and the health page answers within a second.
func TestSiege(t *testing.T) {
	if *siege == 0 {
		t.Skip("make soak plays it: it measures memory and time, which the race detector and other tests would spoil")
	}
	r := newRig(t, "")
	r.twinning(0, "user", "add", "attacker", "--rights", "look,work,seal,overrule,administer")
	token := regexp.MustCompile(`tw_\S+`).FindString(r.twinning(0, "user", "token", "add", "attacker", "--days", "1"))
	require.NotEmpty(t, token)
	status := func(method, path, media string, body []byte) (int, string) {
		req, err := http.NewRequest(method, r.url+path, bytes.NewReader(body))
		if err != nil {
			return 0, err.Error()
		}
		req.Header.Set("Authorization", "Bearer "+token)
		if media != "" {
			req.Header.Set("Content-Type", media)
		}
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			return 0, err.Error()
		}
		defer res.Body.Close() // read to its end
		text, _ := io.ReadAll(io.LimitReader(res.Body, 1<<20))
		return res.StatusCode, string(text)
	}
	for _, system := range []string{"hostile", "people", "accounts"} {
		got, text := status("PUT", "/v1/systems/"+system, jsonType, []byte(`{"kind": "file", "settings": {"id": "id"}}`))
		require.Equal(t, http.StatusOK, got, text)
	}
	var list bytes.Buffer
	list.WriteString("id,email,title\n")
	for i := range 60_000 {
		_, _ = fmt.Fprintf(&list, "%d,n%d@larkspur.example,%0200d\n", i, i, i) // into memory
	}
	for _, system := range []string{"people", "accounts"} {
		got, text := status("POST", "/v1/systems/"+system+"/rosters", fileType, list.Bytes())
		require.Equal(t, http.StatusAccepted, got, text)
	}
	nested := "person.emails.all(x, "
	charter := func(key string) []byte {
		b, err := json.Marshal(map[string]string{"source": fmt.Sprintf("lane: hostile\npeople: {from: people}\naccounts: {in: accounts}\npairing:\n  keys:\n    - {name: a, person: %q, account: account.emails}\n", key)})
		require.NoError(t, err)
		return b
	}
	source := func(text string) []byte {
		b, err := json.Marshal(map[string]string{"source": text})
		require.NoError(t, err)
		return b
	}
	require.Eventually(t, func() bool {
		got, _ := status("PUT", "/v1/lanes/hostile/charter", jsonType, charter(strings.Repeat(nested, 40)+"true"+strings.Repeat(")", 40)+" ? person.email : ''"))
		return got < 300
	}, 30*time.Second, time.Second)

	file := func(b []byte) func() {
		return func() {
			_, text := status("POST", "/v1/systems/hostile/files", fileType, b)
			var sent struct{ File string }
			if json.Unmarshal([]byte(text), &sent) != nil || sent.File == "" {
				return // the quota, or too slow: an answer as well
			}
			status("POST", "/v1/systems/hostile/preview", jsonType, []byte(`{"file": "`+sent.File+`"}`))
			status("POST", "/v1/systems/hostile/rosters?file="+sent.File, "", nil)
		}
	}
	raw := func(request string, body []byte) func() {
		return func() {
			c, err := net.Dial("tcp", strings.TrimPrefix(r.url, "http://"))
			if err != nil {
				return
			}
			defer c.Close() // nobody reads it
			_, _ = fmt.Fprintf(c, "%s HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nContent-Type: %s\r\n", request, token, fileType)
			_, _ = c.Write(body)
			time.Sleep(5 * time.Second)
		}
	}
	attacks := map[string]func(){
		"nested JSON": file(zipped(`{"id":"0"}` + "\n" + strings.Repeat(strings.Repeat(`{"`+strings.Repeat("k", 250)+`":`, 9000)+"1"+strings.Repeat("}", 9000)+"\n", 30))),
		"gzip":        file(zipped("id,name\n" + strings.Repeat("1,aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa\n", 3_000_000))),
		"columns":     file([]byte("id," + strings.Repeat("c,", 30_000) + "\n" + strings.Repeat("1\n", 1000))),
		"one line":    file(bytes.Repeat([]byte("x"), 300<<20)),
		"workbook":    file(workbook(t, 1_200_000)),
		"empty":       func() { status("POST", "/v1/systems/hostile/preview", jsonType, []byte(`{}`)) },
		"brackets":    func() { status("POST", "/v1/charter-checks", jsonType, source(strings.Repeat("[", 80_000))) },
		"lines": func() {
			status("POST", "/v1/charter-checks", jsonType, source("a: b\n"+strings.Repeat("  c\n", 30_000)))
		},
		"replace": func() {
			status("POST", "/v1/charter-checks", jsonType, charter("person.email"+strings.Repeat(".replace('e', 'eeeeeeeeeeeeeeeeeeeeeeeeeeeeeeee')", 9)))
		},
		"nested all": func() { status("POST", "/v1/lanes/hostile/reconciliations", "", nil) },
		"exports":    raw("GET /v1/rosters/1/export?format=csv", []byte("\r\n")),
		"slow":       raw("POST /v1/systems/hostile/files", []byte("Content-Length: 1000000\r\n\r\nxxxx")),
		"guesses": func() {
			var wg sync.WaitGroup
			for i := range 60 {
				wg.Go(func() {
					status("POST", "/v1/sign-in", jsonType, []byte(fmt.Sprintf(`{"name": "admin%d", "password": "guess"}`, i%7)))
				})
			}
			wg.Wait()
		},
	}
	end := time.Now().Add(*siege)
	var wg sync.WaitGroup
	var tried atomic.Int64
	for name, attack := range attacks {
		wg.Go(func() {
			n := 0
			for ; time.Now().Before(end); n++ {
				attack()
			}
			tried.Add(int64(n))
			t.Logf("%s: %d times", name, n)
		})
		for range map[bool]int{true: 15, false: 1}[name == "exports" || name == "slow"] {
			wg.Go(func() {
				for time.Now().Before(end) {
					attack()
				}
			})
		}
	}
	most, slowest := 0, time.Duration(0)
	anonymous := regexp.MustCompile(`RssAnon:\s+(\d+) kB`)
	client := &http.Client{Timeout: 10 * time.Second}
	for time.Now().Before(end) {
		began := time.Now()
		res, err := client.Get(r.url + "/readyz")
		require.NoError(t, err, "the service is gone")
		require.NoError(t, res.Body.Close())
		require.Equal(t, http.StatusOK, res.StatusCode)
		slowest = max(slowest, time.Since(began))
		b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", r.node.cmd.Process.Pid))
		require.NoError(t, err)
		kb, err := strconv.Atoi(string(anonymous.FindSubmatch(b)[1]))
		require.NoError(t, err)
		most = max(most, kb>>10)
		time.Sleep(100 * time.Millisecond)
	}
	wg.Wait()
	t.Logf("%d attacks: at most %d MiB, the health page within %s", tried.Load(), most, slowest)
	require.Less(t, most, 1024)
	require.Less(t, slowest, time.Second)
	require.Greater(t, tried.Load(), int64(100))
}
