package report

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"yorvet.example/yorvet/internal/campaign"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/expect"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/demo"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/sample"
)

// Where the browser and axe-core are, as .ci/run installs them.
const (
	chromium = "/usr/bin/chromium"
	axe      = "/opt/axe-beside/node_modules/axe-core/axe.min.js"
)

// browser is a tab of headless Chromium that notes what goes wrong in it.
type browser struct {
	t   *testing.T
	ctx context.Context

	mutex    sync.Mutex
	problems []string
}

// open starts a tab of a size, dark or light, and opens a page in it.
func open(t *testing.T, path string, width, height int64, scheme string) *browser {
	t.Helper()
	if _, err := os.Stat(chromium); err != nil {
		if os.Getenv("YORVET_TEST_SERVERS") != "" {
			t.Fatal(err)
		}
		t.Skip("Chromium is not installed here (Debian: chromium): ", err)
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(chromium), chromedp.NoSandbox,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true), chromedp.UserDataDir(t.TempDir()))
	ctx, stop := chromedp.NewExecAllocator(t.Context(), options...)
	t.Cleanup(stop)
	ctx, stop = chromedp.NewContext(ctx)
	t.Cleanup(stop)
	b := &browser{t: t, ctx: ctx}
	b.do(chromedp.Navigate("about:blank"))
	limited, stop := context.WithTimeout(ctx, 5*time.Minute)
	t.Cleanup(stop)
	b.ctx = limited
	if err := chromedp.Listen(b.ctx, b.listen); err != nil {
		t.Fatal(err)
	}
	_, failed := chromedp.Call(b.ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
		Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}}})
	_, logs := chromedp.Call(b.ctx, log.Enable, cdp.Empty{})
	_, fetches := chromedp.Call(b.ctx, network.Enable, network.EnableParams{})
	if err := errors.Join(failed, logs, fetches); err != nil {
		t.Fatal(err)
	}
	b.do(chromedp.EmulateViewport(width, height), chromedp.Navigate("file://"+path), chromedp.WaitVisible(chromedp.CSS("main h1")))
	return b
}

// listen notes errors, and what is fetched besides the page itself.
func (b *browser) listen(event any) {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	switch e := event.(type) {
	case *log.EventEntryAdded:
		b.problems = append(b.problems, e.Entry.Text)
	case *runtime.EventExceptionThrown:
		b.problems = append(b.problems, e.ExceptionDetails.Text)
	case *runtime.EventConsoleAPICalled:
		b.problems = append(b.problems, fmt.Sprint("console: ", e.Type))
	case *network.EventRequestWillBeSent:
		if url := e.Request.URL; !strings.HasPrefix(url, "file://") && !strings.HasPrefix(url, "data:") {
			b.problems = append(b.problems, "fetched "+url)
		}
	}
}

func (b *browser) do(steps ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	if err := chromedp.Do(b.ctx, steps...); err != nil {
		b.t.Fatal(err)
	}
}

// ask evaluates an expression.
func ask[T any](b *browser, expression string) T {
	b.t.Helper()
	answer, err := chromedp.Run(b.ctx, chromedp.Evaluate[T](expression, chromedp.EvalAwaitPromise))
	if err != nil {
		b.t.Fatal(err)
	}
	return answer
}

// visit goes to a part of the page.
func (b *browser) visit(part string) {
	b.t.Helper()
	ask[string](b, fmt.Sprintf("location.hash = %q", "#/"+part))
	ask[int](b, "new Promise((done) => requestAnimationFrame(() => setTimeout(() => done(1), 0)))")
	b.do(chromedp.WaitVisible(chromedp.CSS("main h1")))
}

// sound checks that the part that is shown is in order: no error, no horizontal scrolling,
// nothing found by axe-core (WCAG 2.1 AA: contrast of 4.5 at least, names, roles).
func (b *browser) sound(where string) {
	b.t.Helper()
	if wide := ask[int](b, "document.documentElement.scrollWidth - window.innerWidth"); wide > 0 {
		b.t.Errorf("%s: %d pixels too wide", where, wide)
	}
	source, err := os.ReadFile(axe)
	switch {
	case err == nil:
		ask[int](b, string(source)+"; 0")
		for _, finding := range ask[[]string](b, `axe.run(document, {runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "best-practice"]}).then((r) =>
			r.violations.map((v) => v.id + ": " + v.nodes.slice(0, 3).map((n) => n.target + " " + n.html.slice(0, 120)).join(" | ")))`) {
			b.t.Errorf("%s: %s", where, finding)
		}
	case os.Getenv("YORVET_TEST_SERVERS") != "":
		b.t.Error(err)
	}
	b.mutex.Lock()
	defer b.mutex.Unlock()
	for _, problem := range b.problems {
		b.t.Errorf("%s: %s", where, problem)
	}
	b.problems = nil
}

// written writes the page of an estate.
func written(t testing.TB, r *resolve.Resolver, c Choice) string {
	t.Helper()
	var page bytes.Buffer
	c.Day, c.Made = "2026-11-23", "2026-11-23T09:00:00Z"
	if err := NewMaker(r).Collect(c).Write(&page); err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "report.html")
	if err := os.WriteFile(path, page.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// demoChoice has all parts of a page.
func demoChoice(t *testing.T, r *resolve.Resolver) Choice {
	t.Helper()
	c := Choice{Person: estate.None, Places: true, Expectations: &present.Expectations{}, ProbeBegan: "2026-11-23T08:00:00Z"}
	text, err := os.ReadFile("../demo/files/kelpmere.expect")
	if err != nil {
		t.Fatal(err)
	}
	list, _ := expect.Parse(string(text))
	c.Expectations.Add(r, "x.expect", list)
	c.Probe = &present.Probe{Run: "r1", AsPredicted: 3, NotAsPredicted: 1, Ended: true,
		Cases: []present.ProbeCase{{Case: "1", Kind: "outsider", Group: "charter@kelpmere.example", From: "guest@holiday.example",
			To: "charter@kelpmere.example", Predicted: "admit", Seen: "admit", AsPredicted: true, Sent: "accepted"}},
		Members: []present.ProbeMember{{Case: "1", Address: "lena.coil@kelpmere.example", Predicted: "inbox", Seen: "inbox", AsPredicted: true, Seconds: 1.5},
			{Case: "1", Address: "mina.skerry@kelpmere.example", Predicted: "inbox", Seen: "not seen"}},
		Causes: []present.ProbeCause{{Explains: 1, Cases: []string{"1"}, AsIf: []present.AsIf{{Says: "a cause"}}}}}
	c.Runs = []Arrivals{{Run: "r0", Began: "2026-11-22T08:00:00Z", Seconds: []float64{0.5, 1, 2}}}
	return c
}

// The page of the demo works at the sizes of a desk and a hand, dark and light.
func TestBrowser(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("a browser is slow")
	}
	r := sample.Demo(t, demo.Estate)
	path := written(t, r, demoChoice(t, r))
	for _, size := range [][2]int64{{1280, 800}, {390, 844}} {
		for _, scheme := range []string{"light", "dark"} {
			if (size[0] == 1280) != (scheme == "light") && !campaign.On() {
				continue // .ci/run has all four
			}
			t.Run(fmt.Sprintf("%dx%d %s", size[0], size[1], scheme), func(t *testing.T) {
				t.Parallel()
				b := open(t, path, size[0], size[1], scheme)
				b.sound("at a glance")
				for _, part := range []string{"groups", "map", "people", "hazards", "expectations", "probe",
					"group/sailing-notices%40kelpmere.example", "group/stores%40kelpmere-cargo.example", "person/nora.teale%40kelpmere.example"} {
					b.visit(part)
					b.sound(part)
				}
				b.uses()
				b.tabs()
			})
		}
	}
}

// uses searches, opens a group and follows a link.
func (b *browser) uses() {
	b.t.Helper()
	b.do(chromedp.SendKeys(chromedp.CSS("#find"), "lost pro"), chromedp.WaitVisible(chromedp.CSS("#found a")))
	if n := ask[int](b, `document.querySelectorAll("#found a").length`); n != 1 {
		b.t.Errorf("%d things are called lost pro", n)
	}
	b.do(chromedp.Click(chromedp.CSS("#found a")), chromedp.WaitVisible(chromedp.CSS(".flow")))
	if title := ask[string](b, `document.querySelector("h1").textContent`); title != "Lost property desk" {
		b.t.Errorf("the group is titled %q", title)
	}
	b.do(chromedp.Click(chromedp.CSS(`main a[href^="#/person/"]`)),
		chromedp.Poll[chromedp.Void](`location.hash.startsWith("#/person/")`))
	if part := ask[string](b, "location.hash"); !strings.HasPrefix(part, "#/person/") {
		b.t.Errorf("the link leads to %s", part)
	}
	b.visit("groups")
	b.do(chromedp.SetValue(chromedp.CSS("#filter1"), "refuse"), chromedp.Evaluate[chromedp.Void](`document.getElementById("filter1").dispatchEvent(new Event("change"))`))
	rows := ask[int](b, `document.querySelectorAll("tbody tr").length`)
	wrong := ask[int](b, `[...document.querySelectorAll("tbody tr")].filter((r) => r.children[1].textContent !== "refused").length`)
	if rows == 0 || rows >= 23 || wrong != 0 {
		b.t.Errorf("%d groups are left by a filter, %d of them wrong", rows, wrong)
	}
	b.sound("after use")
}

// tabs goes through a part with the Tab key alone: all that can be used is reached.
func (b *browser) tabs() {
	b.t.Helper()
	b.visit("group/charter%40kelpmere.example")
	ask[int](b, `document.activeElement.blur(); window.scrollTo(0, 0); window.wanted = new Set([...document.querySelectorAll("a[href], button, input, select, summary, [tabindex='0']")].filter((e) => e.getClientRects().length && !e.closest("details:not([open]) > :not(summary)"))); 0`)
	all := ask[int](b, "wanted.size")
	for range all + 10 {
		b.do(chromedp.KeyEvent(kb.Tab), chromedp.Evaluate[chromedp.Void]("wanted.delete(document.activeElement)"))
	}
	if left := ask[[]string](b, "[...wanted].map((e) => e.outerHTML.slice(0, 100))"); all < 20 || len(left) > 0 {
		b.t.Errorf("of %d things Tab does not reach %q", all, left)
	}
}

// Names that are meant to break a page are text in it.
func TestHostileNames(t *testing.T) {
	t.Parallel()
	const evil = `</script><script>document.title='broken'</script><img src=x onerror="document.title='broken'">"'&` + "\u202eabc\u0007"
	r := sample.Load(t, `yorvet: 1
name: `+quoted(evil)+`
domains: [kelp.example]
people:
  - {address: ada@kelp.example, name: `+quoted(evil)+`}
groups:
  - {address: all@kelp.example, title: `+quoted(evil)+`, about: `+quoted(evil)+`, owners: [ada@kelp.example], members: [ada@kelp.example], footer: `+quoted(evil)+`,
     gate: [`+quoted(`refuse @x.example because "<b>no</b>"`)+`, admit anyone]}
`)
	path := written(t, r, Choice{Person: estate.None, Of: evil})
	page, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if n := bytes.Count(page, []byte("<script")); n != 2 || bytes.Contains(page, []byte("\u202e")) || bytes.Contains(page, []byte("<img")) {
		t.Errorf("%d scripts in the page", n)
	}
	b := open(t, path, 1280, 800, "light")
	for _, part := range []string{"", "groups", "people", "hazards", "group/all%40kelp.example", "person/ada%40kelp.example"} {
		b.visit(part)
		b.sound("hostile " + part)
		if title := ask[string](b, "document.title"); title == "broken" {
			t.Errorf("%s: a script of a name ran", part)
		}
	}
	b.visit("person/ada%40kelp.example")
	if title := ask[string](b, `document.querySelector("h1").textContent`); !strings.Contains(title, "</script><script>") || !strings.Contains(title, `\u202e`) {
		t.Errorf("the name is shown as %q", title)
	}
}

// A page for somebody who owns nothing, or nothing with a hazard, is a page.
func TestPagesOfFew(t *testing.T) {
	t.Parallel()
	r := sample.Load(t, `yorvet: 1
name: Kelp
domains: [kelp.example]
people:
  - {address: ada@kelp.example, name: Ada Oake}
  - {address: bo@kelp.example}
groups:
  - {address: crew@kelp.example, owners: [ada@kelp.example], members: [ada@kelp.example, bo@kelp.example]}
`)
	ada, _ := r.Estate().Find(address.MustParse("ada@kelp.example"))
	bo, _ := r.Estate().Find(address.MustParse("bo@kelp.example"))
	for about, c := range map[string]Choice{
		"nothing":   {Groups: []estate.ID{}, Person: bo, Of: "bo@kelp.example"},
		"no hazard": {Groups: []estate.ID{0}, Person: ada, Of: "Ada Oake"},
	} {
		b := open(t, written(t, r, c), 1280, 800, "light")
		for _, part := range []string{"", "groups", "map", "people", "hazards"} {
			b.visit(part)
			b.sound(about + " " + part)
			if text := ask[string](b, "document.body.innerText"); len(strings.TrimSpace(text)) < 20 || strings.Contains(text, "Show 0 more") ||
				strings.Contains(text, "1 places") {
				t.Errorf("%s, %s: the page says %q", about, part, text)
			}
		}
		if title := ask[string](b, "document.title"); !strings.Contains(title, c.Of) {
			t.Errorf("%s: the title is %q", about, title)
		}
	}
}

func quoted(s string) string {
	b, _ := json.Marshal(s)
	return string(b)
}

// A page of thousands of groups opens and can be searched.
func TestLargePage(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("a large estate is slow")
	}
	dir := t.TempDir()
	if _, err := sample.Tables(dir, 20_000, 4_000, 120_000); err != nil {
		t.Fatal(err)
	}
	path := written(t, large(t, dir), Choice{Person: estate.None, Places: true})
	info, err := os.Stat(path)
	if err != nil || info.Size() > 15<<20 {
		t.Fatalf("%v, %d bytes", err, info.Size())
	}
	b := open(t, path, 1280, 800, "light")
	shown := ask[int](b, "Number(document.body.dataset.shown)")
	t.Logf("%d kB, shown after %d ms", info.Size()/1000, shown)
	for _, part := range []string{"groups", "map", "people", "hazards", "group/group-01234%40kelpmere.example"} {
		b.visit(part)
		if wide := ask[int](b, "document.documentElement.scrollWidth - window.innerWidth"); wide > 0 {
			t.Errorf("%s: %d pixels too wide", part, wide)
		}
	}
	b.do(chromedp.SendKeys(chromedp.CSS("#find"), "number 12345"), chromedp.WaitVisible(chromedp.CSS("#found a")))
}
