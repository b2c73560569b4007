package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"twinning/demo"
	"twinning/internal/service"
	"twinning/internal/store"
)

// page is a tab of a real browser.
type page struct {
	t   *testing.T
	ctx context.Context
}

func newPage(t *testing.T) *page {
	t.Helper()
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-sync", true), chromedp.UserDataDir(t.TempDir()))
	alloc, cancelAlloc := chromedp.NewExecAllocator(context.Background(), opts...)
	ctx, cancel := chromedp.NewContext(alloc)
	t.Cleanup(func() { cancel(); cancelAlloc() })
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)), "Chromium does not start")
	return &page{t, ctx}
}

// signedIn is a page of whoever administers the house.
func (h *house) signedIn() *page {
	h.t.Helper()
	p := newPage(h.t)
	p.do(chromedp.Navigate(h.url))
	p.fill("input[autocomplete=username]", "admin")
	p.fill("input[type=password]", h.password)
	p.press("Sign in")
	return p
}

func (p *page) do(steps ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, 90*time.Second)
	defer cancel()
	require.NoError(p.t, chromedp.Do(ctx, steps...))
}

// eval runs JavaScript and returns its value.
func eval[T any](p *page, js string) T {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, 90*time.Second)
	defer cancel()
	v, err := chromedp.Run(ctx, chromedp.Evaluate[T](js))
	require.NoError(p.t, err, js)
	return v
}

// until waits for an expression to become true.
func (p *page) until(js, why string) {
	p.t.Helper()
	deadline := time.Now().Add(90 * time.Second)
	for !eval[bool](p, js) {
		if time.Now().After(deadline) {
			require.Fail(p.t, why, "the page shows:\n%s", eval[string](p, "document.body.innerText"))
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// sees waits for a text.
func (p *page) sees(text string) {
	p.t.Helper()
	p.until(fmt.Sprintf("document.body.innerText.includes(%q)", text), "expected the page to show "+text)
}

// press clicks what a person would call by this text.
func (p *page) press(text string) {
	p.t.Helper()
	find := fmt.Sprintf(`[...document.querySelectorAll('button,a,summary,[role=row],[role=button],[role=tab]')].filter(e => e.textContent.includes(%[1]q) || (e.getAttribute('aria-label') ?? '').includes(%[1]q)).filter(e => !e.disabled).at(-1)`, text)
	p.until("!!("+find+")", "expected something to press called "+text)
	eval[bool](p, `(() => { const e = `+find+`; if (e instanceof SVGElement) e.dispatchEvent(new MouseEvent('click', {bubbles: true})); else if (e.getAttribute('role') === 'tab') { e.focus(); e.dispatchEvent(new MouseEvent('mousedown', {bubbles: true, button: 0})); } else e.click(); return true })()`)
}

// fill replaces an input's text as typing would.
func (p *page) fill(selector, text string) {
	p.t.Helper()
	p.until(fmt.Sprintf("!!document.querySelector(%q)", selector), "expected an input "+selector)
	eval[bool](p, fmt.Sprintf(`(() => { const e = document.querySelector(%q); Object.getOwnPropertyDescriptor(Object.getPrototypeOf(e), 'value').set.call(e, %q); e.dispatchEvent(new Event('input', {bubbles: true})); e.dispatchEvent(new Event('change', {bubbles: true})); return true })()`, selector, text))
}

// writes replaces the text of an editor as pasting would.
func (p *page) writes(selector, text string) {
	p.t.Helper()
	p.until(fmt.Sprintf("!!document.querySelector(%q)", selector), "expected an editor "+selector)
	p.do(chromedp.Click(selector), chromedp.KeyEvent("a", chromedp.KeyModifiers(chromedp.ModifierCtrl)))
	time.Sleep(200 * time.Millisecond) // the editor hears of it by an event
	eval[bool](p, fmt.Sprintf(`(() => { const d = new DataTransfer(); d.setData('text/plain', %q); document.querySelector(%q).dispatchEvent(new ClipboardEvent('paste', {clipboardData: d, bubbles: true, cancelable: true})); return true })()`, text, selector))
}

// types presses real keys, one after another, wherever the focus is.
func (p *page) types(keys string) {
	p.t.Helper()
	p.do(chromedp.KeyEvent(keys))
}

// cutOff takes the service away from the page, or gives it back.
func (p *page) cutOff(away bool) {
	p.t.Helper()
	patterns := []*network.BlockPattern{}
	if away {
		patterns = append(patterns, &network.BlockPattern{URLPattern: "*://*:*/v1/*", Block: true})
	}
	p.do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		if _, err := cdp.Call(ctx, t, network.Enable, network.EnableParams{}); err != nil {
			return err
		}
		_, err := cdp.Call(ctx, t, network.SetBlockedURLs, network.SetBlockedURLsParams{URLPatterns: patterns})
		return err
	}))
}

// shot keeps a picture when TWINNING_SHOTS names a folder.
func (p *page) shot(name string, dark bool) {
	p.t.Helper()
	dir := os.Getenv("TWINNING_SHOTS")
	if dir == "" {
		return
	}
	scheme := map[bool]string{true: "dark", false: "light"}[dark]
	time.Sleep(400 * time.Millisecond)
	ctx, cancel := context.WithTimeout(p.ctx, 90*time.Second)
	defer cancel()
	require.NoError(p.t, setScheme(ctx, scheme))
	time.Sleep(200 * time.Millisecond)
	png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	require.NoError(p.t, err)
	require.NoError(p.t, os.MkdirAll(dir, 0o750))
	require.NoError(p.t, os.WriteFile(filepath.Join(dir, name+".png"), png, 0o600))
	require.NoError(p.t, setScheme(ctx, "light"))
}

// accessible holds the page against axe-core, and against its width. It waits
// for lists that are still loading: they are dimmed, and can't be acted on.
func (p *page) accessible(where string) {
	p.t.Helper()
	p.until("!document.querySelector('[aria-busy=true]')", "the page has loaded")
	axe, err := os.ReadFile("../../console/node_modules/axe-core/axe.min.js")
	require.NoError(p.t, err)
	eval[bool](p, string(axe)+"; true")
	eval[bool](p, `window.__axe = null; axe.run().then(r => { window.__axe = r.violations.map(v => v.id + ': ' + v.nodes.map(n => n.target.join(' ')).slice(0, 3).join(', ')).join('\n') }); true`)
	p.until("window.__axe !== null", "axe did not answer")
	require.Empty(p.t, eval[string](p, "window.__axe"), "axe on %s", where)
	require.LessOrEqual(p.t, eval[int](p, "document.documentElement.scrollWidth"), 1280, "%s is wider than the window", where)
}

// The walk of an engineer: sign in, balance, finding, why, plan, seal, run,
// verified.
func TestConsole(t *testing.T) {
	h := newHouse(t)
	p := newPage(t)
	p.do(chromedp.Navigate(h.url))
	p.sees("Sign in")
	p.accessible("sign-in")
	p.fill("input[autocomplete=username]", "admin")
	p.fill("input[type=password]", "wrong password")
	p.press("Sign in")
	p.sees("name or password is wrong")
	p.shot("sign-in", false)
	p.fill("input[type=password]", h.password)
	p.press("Sign in")
	p.sees("hq-dome-booking")
	p.accessible("lanes")
	p.shot("lanes", false)

	p.press("hq-dome-booking")
	p.sees("contradictory-keys")
	p.accessible("lane")
	p.shot("lane", false)
	p.shot("lane-dark", true)
	p.press("contested 10 people")
	p.until("document.querySelectorAll('[role=gridcell] [data-state=contested]').length === 10", "a click on a part lists just its records")
	p.press("Rosa Yáñez")
	p.sees("also carried by account u90925")
	p.accessible("why")
	p.shot("why", false)

	p.do(chromedp.Navigate(h.url + "/lanes/hq-dome-booking?view=findings&code=orphan-account"))
	p.press("Look after these 5")
	p.until("[...document.querySelectorAll('[role=gridcell]')].filter(c => c.innerText === 'admin').length === 5", "who looks after them")
	p.press("Accept these 5")
	p.fill("[role=dialog] input, [role=dialog] textarea", "they belong to the rigs")
	p.press("Accept them")
	p.until("[...document.querySelectorAll('[role=gridcell]')].filter(c => c.innerText === 'accepted').length === 5", "they are accepted")
	p.until("!document.querySelector('[role=dialog]')", "the question is answered")
	p.accessible("findings")
	p.shot("findings", false)

	p.do(chromedp.Navigate(h.url + "/lanes/hq-dome-booking"))
	p.press("Draft a plan of")
	p.sees("as one") // two swap their addresses
	p.accessible("plan")
	p.shot("plan", false)
	p.shot("plan-dark", true)
	total := eval[string](p, "document.querySelector('h1').innerText.match(/: (.*) changes/)[1]")
	p.press("Seal " + total + " changes")
	p.fill("input[inputmode=numeric]", "1")
	require.True(t, eval[bool](p, "document.querySelector('[role=dialog] button[type=submit]').disabled"), "a wrong count does not seal")
	p.fill("input[inputmode=numeric]", total)
	p.shot("seal", false)
	p.press("Seal " + total + " changes")
	p.sees("sealed by admin")
	p.press("Run " + total + " changes")
	p.fill("input[inputmode=numeric]", total)
	p.press("Run " + total + " changes")
	p.sees("finished, drafted")
	p.sees(total + " done")
	p.press("Read every account again")
	n, err := strconv.Atoi(total)
	require.NoError(t, err)
	p.sees(fmt.Sprint(n-1) + " confirmed") // a value that stood in between is not looked for

	p.press("Systems")
	p.sees("dome-booking")
	p.accessible("systems")
	p.press("hq")
	p.sees("Take changes")
	p.accessible("system")
	p.press("Probe")
	p.sees("is tried only when a plan is run")
	p.accessible("probe")
	p.shot("system", false)
	p.do(chromedp.Navigate(h.url + "/rosters/" + h.newest("hq")))
	p.sees("carla.montt-riquelme@larkspur.example")
	p.accessible("roster comparison")
	p.shot("roster-comparison", false)
	p.press("1 went")
	p.until("document.querySelectorAll('[role=gridcell]').length === 4", "one person went")
	p.press("Attributes")
	p.sees("Night assistant (")
	p.accessible("attributes")
	p.shot("roster-attributes", false)
	p.press("Not readable 1")
	p.sees("is not an ISO date")
	p.accessible("rejected")
	p.press("Records 42")
	p.fill("input[type=search]", "Montt")
	p.until("document.querySelectorAll('[role=grid] [role=rowgroup] [role=row]').length === 1", "a search finds Carla alone")
	p.press("L0950")
	p.sees("through time")
	p.until("document.querySelectorAll('section[aria-label=history] p').length === 2", "she was somebody else before")
	p.accessible("records")
	p.do(chromedp.Navigate(h.url + "/keys?people=hq&accounts=dome-booking"))
	p.sees("person.employeeNumber, account: account.externalId")
	p.accessible("key survey")
	p.shot("keys", false)
	p.do(chromedp.Navigate(h.url + "/keys?people=hq&accounts=candlewick"))
	p.sees("which namesakes share")
	p.press("Tasks")
	p.sees("verify run")
	p.accessible("tasks")
	p.press("Freeze all writing")
	p.sees("All writing is frozen by admin")
	p.press("Let writing go on…")
	p.sees("admin froze all writing")
	p.accessible("unfreezing")
	p.press("Let writing go on")
	p.sees("Freeze all writing")
}

// What HR sends is nearly right: it is dropped, looked at, mapped by picking,
// corrected, kept and taken, without leaving the page.
func TestConsolePreview(t *testing.T) {
	h := newHouse(t)
	_, err := h.app.Service.PutSystem(context.Background(), admin, service.System{Name: "hr", Kind: "file"}, service.Putting{})
	require.NoError(t, err)
	p := newPage(t)
	p.do(chromedp.Navigate(h.url + "/systems/hr/preview"))
	p.fill("input[autocomplete=username]", "admin")
	p.fill("input[type=password]", h.password)
	p.press("Sign in")
	p.sees("Systems")
	p.do(chromedp.Navigate(h.url + "/systems/hr/preview"))
	p.sees("drop one here")
	p.accessible("empty preview")
	text := "Larkspur Observatories, people in October\nStaff no.;Nombre;Apellido;Correo;Ingreso;Vínculo;Sede\n"
	for i, w := range demo.FirstDay().People[:60] {
		text += fmt.Sprintf("%s;%s;%s;%s;%02d.%02d.2019;%s;%s\n", w.No, w.Given, w.Family, w.Mail, 1+i%28, 1+i%12, map[bool]string{true: "fuera", false: "dentro"}[i%9 == 8], w.Site)
	}
	text += "L0009;Twice;Listed;twice@larkspur.example;01.01.2020;dentro;Paso Hondo\nL0099;Needs;Quotes, here;x@larkspur.example;01.01.2020;dentro\n"
	eval[bool](p, fmt.Sprintf(`(() => { const d = new DataTransfer(); d.items.add(new File([%q], 'hr.csv')); document.querySelector('section[aria-label="file to look at"]').dispatchEvent(new DragEvent('drop', {dataTransfer: d, bubbles: true})); return true })()`, text))
	p.sees("people in October (above the header)")
	p.sees("60 records, 2 that can't be read")
	p.sees("6 cells where the header has 7")
	p.accessible("preview")
	pick := func(picks ...string) { // picks of one moment, faster than the service answers
		js := "(() => {"
		for i := 0; i < len(picks); i += 2 {
			p.until(fmt.Sprintf("!!document.querySelector('select[aria-label=\"%s becomes\"]')", picks[i]), "expected the column "+picks[i])
			js += fmt.Sprintf(`{ const e = document.querySelector('select[aria-label="%s becomes"]'); Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set.call(e, %q); e.dispatchEvent(new Event('change', {bubbles: true})); }`, picks[i], picks[i+1])
		}
		eval[bool](p, js+" return true })()")
		for i := 1; i < len(picks); i += 2 {
			p.until(fmt.Sprintf("document.querySelector('textarea[aria-label=shape]')?.value.includes('  %s:') === true", picks[i]), "the shape takes "+picks[i])
		}
	}
	pick("Nombre", "middleName", "Ingreso", "startsOn", "Apellido", "familyName", "Correo", "personalEmail")
	pick("Nombre", "givenName", "Correo", "email")
	p.sees("2019-01-01")
	pick("Vínculo", "active")
	p.sees("name the words that mean true and false")
	p.sees(`"dentro" is not understood as true or false`)
	p.shot("preview", false)
	eval[bool](p, `(() => { [...document.querySelectorAll('label')].find(e => e.textContent.includes('dentro means true')).querySelector('input').click(); return true })()`)
	p.until("document.querySelector('textarea[aria-label=shape]')?.value.includes('false: [\"fuera\"]') === true", "picking a word that means true names both")
	p.fill("textarea[aria-label=shape]", eval[string](p, "document.querySelector('textarea[aria-label=shape]').value.replace('  Sede: Sede', '  location: Sede')"))
	p.press("Look again")
	p.sees("location")
	p.sees("60 records, 2 that can't be read")
	p.shot("preview-dark", true)
	p.press("Keep this shape")
	p.sees("Shape is kept")
	p.press("Take a roster of hr.csv")
	p.sees("Not readable 2")
	p.press("Records")
	p.sees("ana.soto@larkspur.example")
	// two rows may be anybody: no account is anybody's orphan, and the lane says why
	_, err = h.app.Service.PutCharter(context.Background(), admin, "hr-dome-booking", `lane: hr-dome-booking
people: {from: hr}
accounts: {in: dome-booking}
pairing: {keys: [{name: e-mail, person: person.email, account: account.emails}]}
attributes: {userName: {candidates: [slug(initial(person.givenName) + person.familyName)], rule: once}}
emails: {primary: person.email, rule: own}
orphans: {do: suspend}
`, -1, "")
	require.NoError(t, err)
	h.twinning(0, "sign-in", "--address", h.url)
	h.twinning(3, "reconcile", "hr-dome-booking")
	p.do(chromedp.Navigate(h.url + "/lanes/hr-dome-booking"))
	p.sees("withheld:")
	p.press("withheld")
	p.sees("why it is not drafted")
	p.until("document.querySelectorAll('[role=grid] [role=rowgroup] [role=row]').length > 3", "each of them is listed")
	require.Contains(t, eval[string](p, "document.querySelector('[role=grid] [role=rowgroup] [role=row]').innerText"), "could not be read")
	p.accessible("withheld")
	p.shot("withheld", false)
	// a system is made, and its settings changed, by the fields that its kind declares
	p.press("Systems")
	p.press("New system")
	p.fill("input[placeholder=dome-booking]", "night-shift")
	p.until("!!document.querySelector('select[aria-label=kind]')", "the kinds are there")
	eval[bool](p, `(() => { const e = document.querySelector('select[aria-label=kind]'); Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set.call(e, 'scim'); e.dispatchEvent(new Event('change', {bubbles: true})); return true })()`)
	p.until("!!document.querySelector('#set-put-without-etag')", "every setting of an application has its field")
	p.accessible("new system")
	p.shot("new-system", false)
	p.fill("#set-url", "nowhere")
	p.press("Make the system")
	p.sees("setting url is no address such as")
	p.fill("#set-url", "https://night.larkspur.example/scim/v2")
	p.fill("#set-page", "250")
	p.press("Make the system")
	p.until("/page\\s+250/.test(document.body.innerText)", "it is kept")
	p.press("Settings")
	p.until("document.querySelector('#set-page')?.value === '250'", "it is as it was kept")
	p.fill("#set-page", "300")
	p.press("Keep the settings")
	p.until("/page\\s+300/.test(document.body.innerText)", "it is changed")
}

// newest is the number of a system's newest roster.
func (h *house) newest(system string) string {
	list, _, err := h.app.Service.Rosters(context.Background(), system, store.Page{Limit: 1})
	require.NoError(h.t, err)
	return fmt.Sprint(list[0].ID)
}

func setScheme(ctx context.Context, scheme string) error {
	return chromedp.Do(ctx, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}}})
		return err
	}))
}
