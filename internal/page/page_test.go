package page

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/table/officetest"
	"paletwin/internal/account"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/sheet"
)

// hostile is what data may hold and a page must not run.
const hostile = `</script><img src=x onerror="document.title='run'">`

// matter makes a dossier of so many amended records, one of them hostile.
func matter(t testing.TB, records int) *desk.Contents {
	dir := t.TempDir()
	var s, e strings.Builder
	for i, b := range []*strings.Builder{&s, &e} {
		b.WriteString("k,name,depot,fee\n")
		for n := range records {
			fee, depot := 100+n%500, "D03"
			if i == 1 {
				fee += 4
				if n < 9 {
					depot = "D07"
				}
			}
			name := fmt.Sprintf("Aid %d", n)
			if n == 1 && i == 1 {
				name = `"</script><img src=x onerror=""document.title='run'"">"`
			}
			fmt.Fprintf(b, "%05d,%s,%s,%d.00\n", n, name, depot, fee)
		}
	}
	for name, text := range map[string]string{"s.csv": s.String(), "e.csv": e.String() + "90001,New one,D01,55.00\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	d, err := desk.Find(disk.OS{}, account.Account{}, dir, dir)
	require.NoError(t, err)
	c := &desk.Comparison{Title: "Review " + hostile, By: "mairead", Now: time.Date(2026, 10, 6, 9, 0, 0, 0, time.UTC),
		Snapshot: desk.Source{Path: filepath.Join(dir, "s.csv"), Name: "s.csv"}, Edited: &desk.Source{Path: filepath.Join(dir, "e.csv"), Name: "e.csv"},
		Options: compare.Options{RecordSet: "aids", Key: []string{"k"}}}
	dossier, _, err := d.Compare(context.Background(), c)
	require.NoError(t, err)
	m, err := dossier.Contents()
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, m.Close()) })
	return m
}

// write writes the page and returns its file.
func write(t testing.TB, m *desk.Contents) string {
	file := filepath.Join(t.TempDir(), "review.html")
	f, err := os.Create(file)
	require.NoError(t, err)
	require.NoError(t, Write(f, m))
	require.NoError(t, f.Close())
	return file
}

// open opens the page in Chromium and notes what its console says.
func open(t *testing.T, file, downloads string) (context.Context, func() []string) {
	path := officetest.Tool(t, "chromium", "chromium")
	alloc, stop := chromedp.NewExecAllocator(context.Background(), append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.WindowSize(1280, 800))...)
	t.Cleanup(stop)
	var mu sync.Mutex
	var said []string
	ctx, stop := chromedp.NewContext(alloc, chromedp.WithListener(func(ev any) {
		mu.Lock()
		defer mu.Unlock()
		switch ev := ev.(type) {
		case *runtime.EventConsoleAPICalled:
			said = append(said, string(ev.Type))
		case *runtime.EventExceptionThrown:
			said = append(said, fmt.Sprintf("%+v", ev.ExceptionDetails))
		case *log.EventEntryAdded:
			said = append(said, ev.Entry.Text)
		}
	}))
	t.Cleanup(stop)
	ctx, stop = context.WithTimeout(ctx, 2*time.Minute)
	t.Cleanup(stop)
	do(t, ctx, chromedp.Navigate("about:blank"))
	_, err := chromedp.Call(ctx, log.Enable, cdp.Empty{})
	require.NoError(t, err)
	_, err = chromedp.CallBrowser(ctx, browser.SetDownloadBehavior, browser.SetDownloadBehaviorParams{Behavior: "allow", DownloadPath: downloads})
	require.NoError(t, err)
	do(t, ctx, chromedp.Navigate("file://"+file))
	return ctx, func() []string {
		mu.Lock()
		defer mu.Unlock()
		return said
	}
}

func do(t *testing.T, ctx context.Context, steps ...chromedp.Action[chromedp.Void]) {
	require.NoError(t, chromedp.Do(ctx, steps...))
}

// set gives an input a value, as a person does.
func set(t *testing.T, ctx context.Context, id, value string) {
	evaluate[bool](t, ctx, fmt.Sprintf(`(() => { const n = document.getElementById(%q); n.value = %q; n.dispatchEvent(new Event("input")); return n.dispatchEvent(new Event("change")); })()`, id, value))
}

func evaluate[T any](t *testing.T, ctx context.Context, js string) T {
	v, err := chromedp.Run(ctx, chromedp.Evaluate[T](js, chromedp.EvalAwaitPromise))
	require.NoError(t, err, "%s", js[:min(len(js), 300)])
	return v
}

// The page opens, filters, decides, and gives out a file that is collected;
// nothing in its data runs, and the console stays silent.
func TestDecidingInThePage(t *testing.T) {
	m := matter(t, 300)
	downloads := t.TempDir()
	ctx, console := open(t, write(t, m), downloads)
	require.Empty(t, console())
	text := func(id string) string {
		return evaluate[string](t, ctx, `document.getElementById("`+id+`").textContent`)
	}
	assert.Equal(t, "311 open · 0 approved · 0 held · 0 rejected = 311 field changes, adds and deletes", text("counts"))
	assert.Equal(t, "Review 0001: Review "+hostile, evaluate[string](t, ctx, "document.title"))
	assert.Equal(t, 0, evaluate[int](t, ctx, `[...document.querySelectorAll("img")].filter(i => !i.closest(".charts")).length`))
	assert.Equal(t, 2, evaluate[int](t, ctx, `[...document.images].filter(i => i.complete && i.naturalWidth > 100).length`), "the pictures are drawn")
	set(t, ctx, "field", "depot")
	assert.Equal(t, "9 of 311 changes", text("listed"))
	evaluate[bool](t, ctx, `(window.confirm = () => true)()`)
	do(t, ctx, chromedp.Click("#group-approve"))
	set(t, ctx, "field", "")
	set(t, ctx, "search", "img src")
	assert.Equal(t, "1 of 311 changes", text("listed"))
	do(t, ctx, chromedp.Focus("#scroll"), chromedp.KeyEvent("r"))
	assert.Equal(t, "301 open · 9 approved · 0 held · 1 rejected = 311 field changes, adds and deletes", text("counts"))
	assert.Contains(t, text("record"), hostile)
	set(t, ctx, "note", "no tags in names")
	do(t, ctx, chromedp.Click("#save"))
	file := filepath.Join(downloads, "decisions-0001.json")
	var b []byte
	for range 100 {
		if b, _ = os.ReadFile(file); json.Valid(b) {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	said, problems, ok := sheet.ReadPage(b)
	require.True(t, ok, "%s", b)
	assert.Empty(t, problems)
	c := sheet.Match(m, said, "lina", false)
	assert.Empty(t, c.Changed)
	require.Len(t, c.Groups, 2)
	assert.Equal(t, []int{9, 1}, []int{max(c.Groups[0].Count, c.Groups[1].Count), min(c.Groups[0].Count, c.Groups[1].Count)})
	for _, g := range c.Groups {
		assert.Equal(t, map[int]changeset.Decision{9: changeset.Approve, 1: changeset.Reject}[g.Count], g.Decision)
		assert.Equal(t, map[int]string{9: "", 1: "no tags in names"}[g.Count], g.Note)
	}
	assert.Empty(t, console())
}

// What is listed is sorted by any column, there and back, and its sums are exact.
func TestSortingAndSums(t *testing.T) {
	ctx, console := open(t, write(t, matter(t, 300)), t.TempDir())
	column := func(n int) []string {
		return evaluate[[]string](t, ctx, fmt.Sprintf(`[...document.querySelectorAll("#rows tr.row")].map(r => r.children[%d].textContent)`, n))
	}
	sums := func() string { return evaluate[string](t, ctx, `document.getElementById("sums").textContent`) }
	set(t, ctx, "field", "fee")
	from, to := 0, 0
	for n := range 300 {
		from, to = from+100+n%500, to+104+n%500
	}
	assert.Equal(t, fmt.Sprintf("Sums of what is listed: fee of 300: %d.00 → %d.00", from, to), sums())
	own := column(0)
	do(t, ctx, chromedp.Click("#table th:nth-child(5) button"))
	values := column(4)
	assert.True(t, slices.IsSortedFunc(values, func(a, b string) int { return len(a) - len(b) }), "%v", values)
	assert.Equal(t, "ascending", evaluate[string](t, ctx, `document.querySelector("#table th:nth-child(5)").getAttribute("aria-sort")`))
	do(t, ctx, chromedp.Click("#table th:nth-child(5) button"))
	assert.Equal(t, "403.00", column(4)[0])
	do(t, ctx, chromedp.Click("#table th:nth-child(5) button"))
	assert.Equal(t, own, column(0))
	set(t, ctx, "field", "depot")
	assert.Empty(t, sums())
	assert.Empty(t, console())
}

// Many changes open quickly, and only what is seen is drawn; of more than a
// page holds there is a sample, and it says so.
func TestManyChanges(t *testing.T) {
	if testing.Short() {
		t.Skip("takes seconds")
	}
	m := matter(t, MostUnits+5000)
	d, said, err := collect(m)
	require.NoError(t, err)
	assert.LessOrEqual(t, len(d.Units), MostUnits)
	assert.Contains(t, said, "There are 25\u202f011 field changes and records. This page holds 20\u202f000")
	ctx, console := open(t, write(t, matter(t, 19_900)), t.TempDir())
	assert.Less(t, evaluate[int](t, ctx, `document.querySelectorAll("#rows tr").length`), 100)
	took := evaluate[float64](t, ctx, `performance.timing.loadEventEnd - performance.timing.navigationStart`)
	t.Logf("19,911 changes open in %.0f ms", took)
	do(t, ctx, chromedp.Focus("#scroll"), chromedp.KeyEvent(kb.End))
	assert.Contains(t, evaluate[string](t, ctx, `document.querySelector("#rows tr.row[aria-selected=true]").textContent`), "90001")
	assert.Empty(t, console())
}

// axe-core finds no serious fault. PALETWIN_AXE names its script, which npm
// installs.
func TestThePageIsAccessible(t *testing.T) {
	axe, err := os.ReadFile(os.Getenv("PALETWIN_AXE"))
	if err != nil {
		if os.Getenv("PALETWIN_TEST_TOOLS") == "required" {
			t.Fatal("PALETWIN_AXE must name axe.min.js of axe-core")
		}
		t.Skip("PALETWIN_AXE names no axe-core")
	}
	ctx, _ := open(t, write(t, matter(t, 60)), t.TempDir())
	evaluate[bool](t, ctx, string(axe)+"\n;true")
	found := evaluate[[]struct{ ID, Impact, Help string }](t, ctx, `(async () => (await axe.run()).violations.map(v => ({ID: v.id, Impact: v.impact, Help: v.help})))()`)
	for _, v := range found {
		assert.NotContains(t, []string{"serious", "critical"}, v.Impact, "%s: %s", v.ID, v.Help)
	}
}

// runs are texts that would run in a page that takes any of them for more than a text.
var runs = []string{
	`<script>window.ran=1</script>`, `</script><script>window.ran=1</script>`, `<!--<script>window.ran=1</script>-->`, `<img src=x onerror=window.ran=1>`, `"><img src=x onerror=window.ran=1>`, `' onfocus=window.ran=1 autofocus x='`,
	`<svg onload=window.ran=1>`, `<svg><script>window.ran=1</script></svg>`, `<iframe srcdoc="<script>parent.ran=1</script>">`, `</textarea><img src=x onerror=window.ran=1>`, `</title><script>window.ran=1</script>`, `</style><script>window.ran=1</script>`,
	`<a href="javascript:window.ran=1">x</a>`, `javascript:window.ran=1`, "`${window.ran=1}`", `{{constructor.constructor('window.ran=1')()}}`, `<math><mtext></mtext><img src=x onerror=window.ran=1></math>`, `<details open ontoggle=window.ran=1>`,
	`<base href="http://127.0.0.1:1/">`, `<link rel=stylesheet href="http://127.0.0.1:1/x">`, `<meta http-equiv=refresh content="0;url=http://127.0.0.1:1/">`, "a\u2028window.ran=1", `\u003cscript\u003ewindow.ran=1`, `__proto__`, `constructor`,
}

// TestNothingRunsWithoutThePolicy: the page's policy is a second wall. Without it, too, nothing of the data runs, loads or becomes an element, on
// whatever it stands: values, headings, the title, the record set, notes, findings.
func TestNothingRunsWithoutThePolicy(t *testing.T) {
	dir := t.TempDir()
	quoted := func(s string) string { return `"` + strings.ReplaceAll(s, `"`, `""`) + `"` }
	var s, e strings.Builder
	for i, b := range []*strings.Builder{&s, &e} {
		fmt.Fprintf(b, "k,name,%s,%s\n", quoted(runs[3]), quoted(runs[1]))
		for n, text := range runs {
			fmt.Fprintf(b, "%s,%s,%s,%d\n", quoted(fmt.Sprint(n, text)), quoted(text), quoted(text+strings.Repeat("!", i)), n+i)
		}
	}
	for name, text := range map[string]string{"s.csv": s.String(), "e.csv": e.String() + quoted("new"+runs[4]) + "," + quoted(runs[0]) + ",x,1\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	d, err := desk.Find(disk.OS{}, account.Account{}, dir, dir)
	require.NoError(t, err)
	c := &desk.Comparison{Title: strings.Join(runs[:6], " "), By: runs[3], Now: time.Date(2026, 10, 6, 9, 0, 0, 0, time.UTC),
		Snapshot: desk.Source{Path: filepath.Join(dir, "s.csv"), Name: runs[3]}, Edited: &desk.Source{Path: filepath.Join(dir, "e.csv"), Name: runs[1]},
		Options: compare.Options{RecordSet: runs[4], Key: []string{"k"}}}
	dossier, _, err := d.Compare(context.Background(), c)
	require.NoError(t, err)
	_, err = dossier.Decide(&desk.Order{Decision: changeset.Approve, Held: true, By: runs[6], Note: strings.Join(runs, " "), When: time.Now()})
	require.NoError(t, err)
	m, err := dossier.Contents()
	require.NoError(t, err)
	defer m.Close()
	file := write(t, m)
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	open1, after, found := strings.Cut(string(b), `<meta http-equiv="Content-Security-Policy"`)
	require.True(t, found)
	_, after, _ = strings.Cut(after, "\n")
	require.NoError(t, os.WriteFile(file, []byte(open1+after), 0o600))
	ctx, console := open(t, file, t.TempDir())
	quiet := func(where string) {
		t.Helper()
		require.Empty(t, console(), where)
		require.True(t, evaluate[bool](t, ctx, `window.ran === undefined`), "something ran: %s", where)
		require.Zero(t, evaluate[int](t, ctx, `document.querySelectorAll("img:not([src^='data:image/']), iframe, svg, object, embed, math, base, link, script[src], meta[http-equiv], a[href^='javascript']").length`), where)
		require.Zero(t, evaluate[int](t, ctx, `performance.getEntriesByType("resource").length`), where)
	}
	quiet("as it opens")
	rows := evaluate[int](t, ctx, `document.querySelectorAll("tr.row").length`)
	require.Greater(t, rows, 10)
	for k := range rows {
		evaluate[bool](t, ctx, fmt.Sprintf(`(() => { const r = document.querySelectorAll("tr.row")[%d]; if (r) r.click(); return true; })()`, k))
		quiet(fmt.Sprint("row ", k))
	}
	evaluate[bool](t, ctx, `new Promise(done => setTimeout(() => done(true), 500))`)
	quiet("later")
	shown := evaluate[string](t, ctx, `document.body.textContent`)
	require.Contains(t, shown, runs[3], "it is there to be read")
}
