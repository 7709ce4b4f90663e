package console_test

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"osprey/console"
	"osprey/demo/demotest"
	"osprey/project"
	"osprey/publishing"
	"osprey/service"
)

// keep serves types with records, which the keeper has.
func keep(t *testing.T, types string) (url string, keeper *publishing.Keeper) {
	t.Helper()
	return keepIn(t, demotest.Folder(t, map[string]string{"osprey.yaml": fmt.Sprintf("records: { url: %q }\n", demotest.Database(t)), "schema/a.graphql": types}))
}

// keepIn serves the project in a folder, with records.
func keepIn(t *testing.T, dir string) (url string, keeper *publishing.Keeper) {
	t.Helper()
	log := slog.New(slog.DiscardHandler)
	p, keeper, findings, err := publishing.Open(context.Background(), dir, false, log, &project.Additions{})
	if err != nil {
		t.Fatalf("%v: %v", err, findings)
	}
	t.Cleanup(p.Close)
	t.Cleanup(keeper.Start(context.Background(), "one", func() {}))
	own := service.New(service.Config{Project: p, Console: console.Handler(), Log: log, Keeper: keeper})
	s := httptest.NewServer(own)
	t.Cleanup(s.Close)
	t.Cleanup(own.End)
	return s.URL, keeper
}

const buoys = `type Query {
  answer: Int @computed(expr: "1")
  other: Int @computed(expr: "2")
}
`

// asks asks an operation as a client program does.
func asks(t *testing.T, url, client, query string) {
	t.Helper()
	req, _ := http.NewRequest(http.MethodPost, url+"/graphql", strings.NewReader(fmt.Sprintf(`{"query": %q}`, query)))
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Osprey-Client", client)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
}

// choose chooses an entry of a list.
func choose(selector, value string) chromedp.Action[chromedp.Void] {
	return until(fmt.Sprintf(`(() => { const e = document.querySelector(%q); if (!e) return false; e.value = %q; e.dispatchEvent(new Event('change')); return true })()`, selector, value))
}

// fill writes a text into a field.
func fill(selector, text string) chromedp.Action[chromedp.Void] {
	return until(fmt.Sprintf(`(() => { const e = document.querySelector(%q); if (!e) return false; e.focus(); e.value = %q; e.dispatchEvent(new Event('input')); return true })()`, selector, text))
}

// untilCounted loads the page of what is asked anew until it has some texts.
func untilCounted(t *testing.T, ctx context.Context, texts ...string) {
	t.Helper()
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(200 * time.Millisecond) {
		do(t, ctx, chromedp.Reload(), chromedp.WaitVisible("[data-test=order]"), chromedp.Sleep(200*time.Millisecond))
		got := eval[string](t, ctx, `document.querySelector('.list')?.textContent ?? ''`)
		if !slices.ContainsFunc(texts, func(text string) bool { return !strings.Contains(got, text) }) {
			return
		}
		if time.Now().After(end) {
			t.Fatalf("what is counted is %.2000s", got)
		}
	}
}

// TestTrafficPage tells what is asked, by whom, what it asks the stores, and what nobody asks; by client and by what fails.
func TestTrafficPage(t *testing.T) {
	url, _ := keep(t, buoys)
	ctx := browser(t, url+"/console/traffic")
	do(t, ctx, contains(".traffic", "Nothing was asked yet"))
	for range 3 {
		asks(t, url, "board", "query Board { answer }")
	}
	asks(t, url, "tool", "query Wrong { nothing }")
	asks(t, url, "tool", "query Half($n: Int!) { answer @include(if: $n) }")
	asks(t, url, "tool", "query Most($n: Boolean!) { answer @include(if: $n) }")
	untilCounted(t, ctx, "Board 3", "Most 1", "refused before it ran 2")
	do(t, ctx, chromedp.Click(`//tr[@data-test='tally' and contains(., 'Board')]//button`), contains("[data-test=tally-one]", "board 3"), contains("[data-test=tally-one] pre", "query Board { answer }"), contains("[data-test=wave-summary]", "would ask no store"),
		chromedp.Click("[data-test=unused] summary"), contains("[data-test=unused]", "other"))
	do(t, ctx, choose("[data-test=client]", "tool"), until(`document.querySelectorAll('[data-test=tally]').length === 2`))
	do(t, ctx, choose("[data-test=client]", ""), choose("[data-test=code]", "VARIABLES"), until(`document.querySelectorAll('[data-test=tally]').length === 1`), contains("[data-test=tally]", "Most"),
		until(`[...document.querySelectorAll('.bar .hour')].at(-1).title.includes('VARIABLES 1') || [...document.querySelectorAll('.bar .hour')].at(-2).title.includes('VARIABLES 1')`), choose("[data-test=code]", ""))
	do(t, ctx, choose("[data-test=order]", "failed"), until(`document.querySelectorAll('[data-test=tally]').length === 2`))
	// The last errors, without what was sent.
	do(t, ctx, chromedp.Click(`//tr[@data-test='tally' and contains(., 'Most')]//button`), contains("[data-test=errors] h2", "VARIABLES 1 time"), contains("[data-test=sample]", "$n of the type Boolean!"), contains("[data-test=sample]", "tool"))
	do(t, ctx, chromedp.Click(`//tr[@data-test='tally' and contains(., 'refused')]//button`), contains("[data-test=errors] h2", "INVALID 2 times"), contains("[data-test=tally-one]", `Query has no field "nothing"`))
	do(t, ctx, choose("[data-test=order]", "asked"), chromedp.Click(`//tr[@data-test='tally' and contains(., 'Board')]//button`))
	do(t, ctx, choose("[data-test=order]", "asked"), contains("[data-test=tally-one]", "board 3"), chromedp.Click("[data-test=tally-ask]"), chromedp.WaitVisible(run), contains("[aria-label=Operation]", "query Board"))
}

// TestRevisionsPage changes a file, is told what is wrong with it and whom it would break, publishes it anyway, sees what has changed, and
// serves the one before again.
func TestRevisionsPage(t *testing.T) {
	url, _ := keep(t, buoys)
	for range 3 {
		asks(t, url, "board", "query Board { other }")
	}
	ctx := browser(t, url+"/console/revisions")
	edit := func(text string) {
		t.Helper()
		do(t, ctx, choose("[data-test=file]", "schema/a.graphql"), chromedp.Focus("[data-test=text]"), press("a", 2), chromedp.KeyEvent(kb.Backspace), chromedp.KeyEvent(text), chromedp.Click("[data-test=try]"), chromedp.Sleep(300*time.Millisecond))
	}
	do(t, ctx, contains("[data-test=kept-one]", "Revision 1"), chromedp.Click("[data-test=edit]"), chromedp.WaitVisible("[data-test=text]"))
	edit("type Query { answer: Intt }")
	do(t, ctx, contains("[data-test=outcome]", "schema/a.graphql:1:22"), contains("[data-test=outcome]", "the type Intt is not defined"))
	// What is asked is counted within some seconds.
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(300 * time.Millisecond) {
		edit(`type Query { answer: Int @computed(expr: "1") }`)
		if got := text(t, ctx, "[data-test=outcome]"); strings.Contains(got, "breaks Board, asked 3 times by board: Query.other is gone") {
			break
		} else if time.Now().After(end) {
			t.Fatalf("told is %q", got)
		}
	}
	do(t, ctx, chromedp.SendKeys("[data-test=by]", "ann"), chromedp.SendKeys("[data-test=note]", "fewer"), chromedp.Click("[data-test=anyway]"), until(`location.pathname.endsWith('/revisions/2')`), contains("[data-test=kept]", "fewer"), contains("[data-test=kept-one]", "published by ann"),
		until(`document.querySelectorAll('[data-test=beside] .gone').length > 0`))
	if got := text(t, ctx, "[data-test=beside]"); !strings.Contains(got, "other: Int") {
		t.Errorf("side by side is %q", got)
	}
	do(t, ctx, chromedp.Click(`//a[@data-test='kept' and contains(., 'from the files')]`), chromedp.WaitVisible("[data-test=restore]"), chromedp.Click("[data-test=restore]"), contains("[data-test=outcome]", "Query.other"), chromedp.Click("[data-test=serve]"), until(`location.pathname.endsWith('/revisions/3')`), contains("[data-test=kept-one]", "restored by ann"))
}

// TestDraft keeps what is written of a revision, whatever page is looked at, whoever publishes in the meantime, and publishes it behind that when
// one has looked.
func TestDraft(t *testing.T) {
	url, _ := keep(t, buoys)
	ctx := browser(t, url+"/console/revisions")
	do(t, ctx, contains("[data-test=kept-one]", "Revision 1"), chromedp.Click("[data-test=edit]"), chromedp.WaitVisible("[data-test=text]"), choose("[data-test=file]", "schema/a.graphql"), chromedp.Focus("[data-test=text]"), press(kb.End, 2),
		chromedp.KeyEvent("extend type Query { third: Int @computed(expr: \"3\") }"), chromedp.SendKeys("[data-test=note]", "a third"))
	body := fmt.Sprintf(`{"files": {"osprey.yaml": "", "schema/a.graphql": %q}, "by": "bea", "note": "a fourth"}`, buoys+`extend type Query { fourth: Int @computed(expr: "4") }`)
	res, err := http.Post(url+"/api/v1/revisions", "application/json", strings.NewReader(body))
	if err != nil || res.StatusCode != http.StatusOK {
		t.Fatal(res, err)
	}
	res.Body.Close()
	do(t, ctx, chromedp.Click("[data-test=types]"), contains("[data-test=type]", "fourth"), chromedp.Reload(), chromedp.Click("[data-test=revisions]"), contains("[data-test=draft]", "you change it"), chromedp.WaitVisible("[data-test=text]"), choose("[data-test=file]", "schema/a.graphql"))
	if got := eval[string](t, ctx, `document.querySelector('[data-test=text]').value + document.querySelector('[data-test=note]').value`); !strings.Contains(got, "third: Int") || !strings.HasSuffix(got, "a third") {
		t.Errorf("what was written is %q", got)
	}
	do(t, ctx, chromedp.Click("[data-test=try]"), contains("[data-test=outcome]", "Query.third is new"), chromedp.Click("[data-test=serve]"), contains("[data-test=outcome]", "bea has published revision 2 in the meantime"), chromedp.Click("[data-test=behind]"), contains("[data-test=outcome]", "Query.third is new"), contains("[data-test=outcome]", "Query.fourth is gone"),
		chromedp.Click("[data-test=serve]"), until(`location.pathname.endsWith('/revisions/3')`), contains("[data-test=kept-one]", "a third"), chromedp.WaitNotPresent("[data-test=draft]"))
}

// TestAccessPage makes a key, shows it once, tells when it was used, and revokes it.
func TestAccessPage(t *testing.T) {
	url, _ := keep(t, buoys)
	ctx := browser(t, url+"/console/access")
	do(t, ctx, contains(".access", "There is no key yet"), chromedp.Click("[data-test=add-key]"), chromedp.WaitVisible("[data-test=key-name]"), chromedp.SendKeys("[data-test=key-name]", "board"), chromedp.SendKeys("[data-test=key-roles]", "screen, clerk"+kb.Enter), chromedp.WaitVisible("[data-test=made]"))
	if got := text(t, ctx, "[data-test=made] code"); !strings.HasPrefix(got, "osprey_") {
		t.Errorf("the key is %q", got)
	}
	if got := text(t, ctx, "[data-test=key-row]"); !strings.Contains(got, "screen, clerk") || !strings.Contains(got, "never") {
		t.Errorf("listed is %q", got)
	}
	do(t, ctx, chromedp.Reload(), chromedp.WaitVisible("[data-test=key-row]"), chromedp.WaitNotPresent("[data-test=made]"), chromedp.Click("[data-test=revoke]"), chromedp.WaitVisible("[data-test=revoke-sure]"), chromedp.Click("[data-test=revoke-sure]"), until(`!document.querySelector('[data-test=key-row]')`),
		chromedp.Click("[data-test=gone]"), contains("[data-test=key-row]", "revoked by console"))
}

// TestWithoutRecords says on the pages that need records that the service keeps none, and what to do.
func TestWithoutRecords(t *testing.T) {
	url, _ := serveTypes(t, buoys)
	ctx := browser(t, url+"/console/")
	for page, at := range map[string]string{"traffic": "traffic-problem", "revisions": "revisions-problem", "access": "access-problem"} {
		do(t, ctx, chromedp.Navigate(url+"/console/"+page), contains("[data-test="+at+"]", "keeps no records"), contains("[data-test="+at+"]", "osprey.yaml"))
	}
}

// TestLookAs looks at types and answers as holders of a role do, who may not see all of it, and stops.
func TestLookAs(t *testing.T) {
	url, _ := serveTypes(t, `type Query {
  answer: Int @computed(expr: "1")
  wages: Int @computed(expr: "2") @for(roles: ["clerk"])
  mine: String @computed(expr: "caller.roles.size() > 0 ? caller.roles[0] : 'nobody'")
}
`)
	ctx := browser(t, url+"/console/access")
	do(t, ctx, until(`document.querySelectorAll('[data-test=role]').length === 2`))
	if got := text(t, ctx, ".access"); !strings.Contains(got, "does not see 1 type or field") || !strings.Contains(got, "sees all types and fields") {
		t.Errorf("shown is %q", got)
	}
	do(t, ctx, chromedp.Click(`//tr[@data-test='role' and contains(., 'somebody')]//button[@data-test='look-as']`), contains("[data-test=as]", "as somebody without a role"), contains("[data-test=type]", "answer"))
	if got := text(t, ctx, "[data-test=type]"); strings.Contains(got, "wages") {
		t.Errorf("somebody without a role sees %q", got)
	}
	do(t, ctx, chromedp.Navigate(url+"/console/"), chromedp.WaitVisible(run))
	write(t, ctx, `{ wages `)
	do(t, ctx, chromedp.Click(run), contains("[data-test=fault]", `Query has no field "wages"`))
	do(t, ctx, chromedp.Click("[data-test=as-stop]"), chromedp.WaitVisible(run), chromedp.WaitNotPresent("[data-test=as]"), chromedp.Navigate(url+"/console/access"), chromedp.Click(`//tr[@data-test='role' and contains(., 'clerk')]//button[@data-test='look-as']`), contains("[data-test=as]", "as clerk"),
		contains("[data-test=type]", "wages"), chromedp.Navigate(url+"/console/"), chromedp.WaitVisible(run))
	write(t, ctx, `{ wages mine `)
	do(t, ctx, chromedp.Click(run), contains("[data-test=answer]", "wages 2"), contains("[data-test=answer]", "mine clerk"))
}

// TestUsualRequests shows what an operation usually asks the stores, of many answers of which some have asked less.
func TestUsualRequests(t *testing.T) {
	dir := demotest.Folder(t, map[string]string{"data/craft.csv": "imo,name,quay\n1,Auk,E\n2,Bittern,\n", "data/quays.csv": "code,name\nE,East\n",
		"osprey.yaml": fmt.Sprintf("records: { url: %q }\nsources: { port: { kind: files, folder: data }, land: { kind: files, folder: data } }\n", demotest.Database(t)),
		"schema/a.graphql": `type Query { craft(imo: ID!): Craft @read } type Craft @stored(in: "port", as: "craft", key: "imo") { imo: ID! name: String quay: Quay @related(here: "quay", there: "code") }
type Quay @stored(in: "land", as: "quays", key: "code") { code: ID! name: String }`})
	url, _ := keepIn(t, dir)
	for i := range 5 {
		body := fmt.Sprintf(`{"query": "query One($i: ID!) { craft(imo: $i) { name quay { name } } }", "variables": {"i": %d}}`, min(i+1, 2))
		res, err := http.Post(url+"/graphql", "application/json", strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
	}
	ctx := browser(t, url+"/console/traffic")
	untilCounted(t, ctx, "One 5")
	do(t, ctx, chromedp.Click("[data-test=tally] button"), contains("[data-test=wave-summary]", "usually asks 1.2 store requests in 2 waves"), until(`document.querySelectorAll('[data-test=request]').length === 2`))
	if got := eval[string](t, ctx, `document.querySelectorAll('[data-test=request]')[1].ariaLabel`); !strings.Contains(got, "land: quays") || !strings.Contains(got, "in 20 % of answers") {
		t.Errorf("of the second is told %s", got)
	}
}

// TestRecordsAway leaves what is shown when the records are away, says so, and shows what is so again when they are back.
func TestRecordsAway(t *testing.T) {
	cluster := demotest.NewCluster(t)
	url, _ := keepIn(t, demotest.Folder(t, map[string]string{"osprey.yaml": fmt.Sprintf("records: { url: %q }\n", cluster.URL), "schema/a.graphql": buoys}))
	asks(t, url, "board", "query Board { answer }")
	ctx := browser(t, url+"/console/traffic")
	untilCounted(t, ctx, "Board")
	cluster.Stop()
	do(t, ctx, choose("[aria-label=Within]", "168h"), contains("[data-test=traffic-problem]", "Not as of now."), contains(".list", "Board"), contains("[data-test=records]", "Records."))
	do(t, ctx, chromedp.Navigate(url+"/console/revisions"), contains("[data-test=revisions-problem] h1", "cannot be told now"), contains("[data-test=revisions-problem]", "look at the database"))
	cluster.Start()
	do(t, ctx, chromedp.WaitNotPresent("[data-test=records]"), chromedp.Navigate(url+"/console/revisions"), contains("[data-test=kept-one]", "Revision 1"))
}

// TestForbidden says on each page that is for those who run the service that it is, and to whom that is.
func TestForbidden(t *testing.T) {
	dir := demotest.Folder(t, map[string]string{"osprey.yaml": "administration: nobody\nsources: {}\n", "schema/a.graphql": buoys})
	url, _ := serveIn(t, dir)
	ctx := browser(t, url+"/console/")
	for _, page := range []string{"sources", "traffic", "revisions", "access"} {
		do(t, ctx, chromedp.Navigate(url+"/console/"+page), contains("[data-test="+page+"-problem] h1", "for those who run the service"), contains("[data-test="+page+"-problem]", "set administration in osprey.yaml"))
	}
	do(t, ctx, chromedp.Navigate(url+"/console/start"), contains("[data-test=start-sum]", "0 sources"), chromedp.Navigate(url+"/console/types"), contains("[data-test=type]", "answer"))
}

// TestTrial runs one operation as you are answered and as holders of a role are, and shows where the answers differ.
func TestTrial(t *testing.T) {
	dir := demotest.Folder(t, map[string]string{"osprey.yaml": "sources: {}\n", "operations/Mine.graphql": "query Mine { answer mine }", "operations/Pay.graphql": "mutation Pay { pay }", "operations/Twice.graphql": "query Twice($n: Int!) { twice(n: $n) mine }",
		"schema/a.graphql": `type Query { answer: Int @computed(expr: "1") wages: Int @computed(expr: "2") @for(roles: ["clerk"]) twice(n: Int!): Int @computed(expr: "args.n * 2") mine: String @computed(expr: "caller.roles.size() > 0 ? caller.roles[0] : 'nobody'") } type Mutation { pay: Int @computed(expr: "3") }`})
	url, _ := serveIn(t, dir)
	ctx := browser(t, url+"/console/access")
	do(t, ctx, chromedp.Click(`//tr[@data-test='role' and contains(., 'clerk')]//button[@data-test='try-role']`), contains("[data-test=trial] .gone", `"mine": "nobody"`), contains("[data-test=trial] .come", `"mine": "clerk"`))
	if got := eval[string](t, ctx, `[...document.querySelectorAll('[data-test=trial-operation] option')].map((o) => o.textContent).join(' ')`); got != "Mine Twice first" {
		t.Errorf("%s can be tried", got)
	}
	// One that needs values waits for them.
	do(t, ctx, choose("[data-test=trial-operation]", "Twice"), contains("[data-test=trial]", "It needs values."), until(`document.querySelector('[data-test=trial-variables]').value === '{"n":0}'`))
	do(t, ctx, fill("[data-test=trial-variables]", `{"n":`), chromedp.Click("[data-test=trial-ask]"), contains("[data-test=trial] [role=alert]", "are no JSON"))
	do(t, ctx, fill("[data-test=trial-variables]", `{"n":21}`), chromedp.KeyEvent(kb.Enter), contains("[data-test=trial]", `"twice": 42`), contains("[data-test=trial] .come", `"mine": "clerk"`))
	do(t, ctx, choose("[data-test=trial-operation]", "first"), contains("[data-test=trial]", "Both are answered the same"))
	do(t, ctx, chromedp.Click(`//tr[@data-test='role' and contains(., 'somebody')]//button[@data-test='try-role']`), until(`document.querySelectorAll('[data-test=trial]').length === 1`), contains("[data-test=trial]", "Both are answered the same"))
}
