package api

import (
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/approval"
)

// quay is a harbour with people: an operator, two approvers, and a script of the operator's that may approve.
type quay struct {
	*world
	desk, nora, olav *someone
	script           string // a token
}

func newQuay(t *testing.T, demands ...string) *quay {
	t.Helper()
	w := harbour(t)
	w.must(200, "POST", "/rules", m{"text": lampRule})
	q := &quay{world: w, desk: w.person("dora-desk", "operator", gulls, nil),
		nora: w.person("nora-quay", "approver", gulls, nil), olav: w.person("olav-mole", "approver", terns, nil)}
	q.script = w.account("dora-script", "approver", `,"owner":"dora-desk"`)
	w.must(200, "PUT", "/sources/harbour/guard", m{"approve": demands})
	return q
}

// asks says of an answer that it says that others have to approve it first, and returns the request.
func (q *quay) asks(status int, p map[string]any) string {
	q.t.Helper()
	if status != 409 || !strings.HasSuffix(fmt.Sprint(p["type"]), ":approval") {
		q.t.Fatalf("it is answered with %d %v", status, p)
	}
	_, id, _ := strings.Cut(fmt.Sprint(p["detail"]), "request ")
	id, _, _ = strings.Cut(id, ";")
	return id
}

func (q *quay) plan() string {
	q.t.Helper()
	return fmt.Sprint(q.desk.must(201, "POST", "/plans", m{"rule": "lamps"})["id"])
}

// runs waits until a plan has a run, and returns it.
func (q *quay) runs(plan string) map[string]any {
	q.t.Helper()
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		for _, r := range q.must(200, "GET", "/runs", nil)["items"].([]any) {
			if r := r.(map[string]any); r["plan"] == plan && r["state"] == "done" {
				return r
			}
		}
	}
	q.t.Fatalf("plan %s has no run that is done", plan)
	return nil
}

// A run that needs two persons begins with the second, and as what was asked for; whoever asked decides under none of
// their accounts, and nobody twice.
func TestTwoPersonsApproveARun(t *testing.T) {
	q := newQuay(t, "runs:2")
	plan := q.plan()
	id := q.asks(q.desk.do("POST", "/runs", m{"plan": plan}))
	if again := q.asks(q.desk.do("POST", "/runs", m{"plan": plan})); again != id {
		t.Errorf("asked again, it is another request: %s and %s", id, again)
	}
	if status, p := q.desk.do("POST", "/approvals/"+id+"/approve", m{}); status != 422 {
		t.Errorf("who asked approves: %d %v", status, p)
	}
	if resp, body := q.ask("POST", "/api/v1/approvals/"+id+"/approve", "{}", "Authorization",
		"Bearer "+q.script); resp.StatusCode !=
		422 ||
		!strings.Contains(body, "as dora-desk") {
		t.Errorf("who asked approves by a script of theirs: %d %s", resp.StatusCode, body)
	}
	if a := q.nora.must(200, "POST", "/approvals/"+id+"/approve",
		m{"reason": "I have looked at it"}); a["state"] != "waiting" {
		t.Errorf("%v", a)
	}
	if status, p := q.nora.do("POST", "/approvals/"+id+"/approve", m{}); status != 409 ||
		!strings.Contains(fmt.Sprint(p["detail"]), "already") {
		t.Errorf("a person approves twice: %d %v", status, p)
	}
	if list := q.must(200, "GET", "/runs", nil)["items"].([]any); len(list) > 0 {
		t.Fatalf("it runs before it is approved: %v", list)
	}
	a := q.olav.must(200, "POST", "/approvals/"+id+"/approve", m{})
	if a["state"] != "used" || a["trouble"] != "" || len(a["votes"].([]any)) != 2 {
		t.Errorf("%v", a)
	}
	if r := q.runs(plan); r["started_by"] != "dora-desk" {
		t.Errorf("%v", r)
	}
	log := fmt.Sprint(q.must(200, "GET", "/audit?kind=approval", nil))
	for _, want := range []string{"approval ask", "approval approve", "approval used", "I have looked at it",
		"olav-mole"} {
		if !strings.Contains(log, want) {
			t.Errorf("the record does not say %q: %s", want, log)
		}
	}
	if list := q.entries("action=request+start+run", q.token); len(list) != 0 {
		t.Errorf("what waits for approval is recorded as refused: %+v", list)
	}
	if status, _ := q.nora.do("POST", "/approvals/"+id+"/refuse", m{"reason": "late"}); status != 409 {
		t.Errorf("it is decided on when it was used: %d", status)
	}
}

// A pipeline makes a plan, has it approved, and starts it; where it is not approved, it hears so.
func TestAPlanIsApprovedBeforeItIsStarted(t *testing.T) {
	q := newQuay(t, "runs:above=10")
	plan := q.plan()
	if a := q.nora.must(200, "POST", "/plans/"+plan+"/approve", m{"reason": "as agreed"}); a["state"] != "granted" ||
		a["asked_by"] != "dora-desk" || a["begins"] != false {
		t.Errorf("%v", a)
	}
	if status, p := q.desk.do("POST", "/runs", m{"plan": plan, "empty": true}); status == 202 {
		t.Errorf("something else is started than what was approved: %v", p)
	}
	q.desk.must(202, "POST", "/runs", m{"plan": plan})
	q.runs(plan)
	if status, p := q.desk.do("POST", "/plans", m{"rule": "lamps"}); status != 201 {
		t.Fatal(p)
	} else if status, p := q.desk.do("POST", "/runs", m{"plan": p["id"]}); status != 202 { // nothing is due any more
		t.Errorf("a run of no row needs an approval: %d %v", status, p)
	}
	if status, p := q.nora.do("POST", "/plans/nothing/approve", m{}); status != 404 {
		t.Errorf("%d %v", status, p)
	}
}

// What was approved is exactly what is carried out: where it changes meanwhile, the request is void.
func TestWhatHasChangedIsVoid(t *testing.T) {
	q := newQuay(t, "runs")
	plan := q.plan()
	id := q.asks(q.desk.do("POST", "/runs", m{"plan": plan}))
	p, err := q.service.Catalog.Plan(t.Context(), plan)
	if err != nil {
		t.Fatal(err)
	}
	p.ID, p.Counts.V.Due = plan+"x", p.Counts.V.Due+1
	if err := q.service.Catalog.AddPlan(t.Context(), p); err != nil {
		t.Fatal(err)
	}
	forged := &catalog.Approval{
		What:        approval.Runs,
		Source:      "harbour",
		Subject:     p.ID,
		Digest:      "of something else",
		Persons:     1,
		AskedBy:     "dora-desk",
		AskedPerson: "dora-desk",
		Begins:      fmt.Sprintf(`{"plan":%q}`, p.ID),
	}
	if err := q.service.Catalog.AskApproval(t.Context(), forged); err != nil {
		t.Fatal(err)
	}
	if status, p := q.nora.do("POST", "/approvals/"+forged.ID+"/approve", m{}); status != 422 ||
		!strings.Contains(fmt.Sprint(p["detail"]), "it is void") {
		t.Errorf("%d %v", status, p)
	}
	if a := q.must(200, "GET", "/approvals/"+forged.ID, nil); a["state"] != "void" {
		t.Errorf("%v", a)
	}
	// Another revision of the rule: the plan is too old, approved or not.
	q.must(200, "POST", "/rules", m{"text": strings.Replace(lampRule, "P2Y", "P3Y", 1)})
	a := q.nora.must(200, "POST", "/approvals/"+id+"/approve", m{})
	if a["state"] != "granted" || !strings.Contains(fmt.Sprint(a["trouble"]), "revision") {
		t.Errorf("%v", a)
	}
	if list := q.must(200, "GET", "/runs", nil)["items"].([]any); len(list) > 0 {
		t.Errorf("it ran: %v", list)
	}
}

// Two who decide at the same moment: one of them does, and it begins once.
func TestDecisionsRace(t *testing.T) {
	q := newQuay(t, "runs")
	plan := q.plan()
	id := q.asks(q.desk.do("POST", "/runs", m{"plan": plan}))
	var both sync.WaitGroup
	got := make([]int, 2)
	for i, s := range []*someone{q.nora, q.olav} {
		both.Go(func() {
			got[i], _ = s.do("POST", "/approvals/"+id+"/"+[]string{"approve", "refuse"}[i], m{"reason": "now"})
		})
	}
	both.Wait()
	a := q.must(200, "GET", "/approvals/"+id, nil)
	runs := q.must(200, "GET", "/runs", nil)["items"].([]any)
	if got[0]+got[1] != 200+409 || len(a["votes"].([]any)) != 1 || (a["state"] == "used") != (len(runs) == 1) {
		t.Errorf("%v, %v, %d runs", got, a, len(runs))
	}
}

// Rules, holds and guard rails are changed by who asked for it once somebody else agrees.
func TestChangesWaitForApproval(t *testing.T) {
	q := newQuay(t, "loosenings", "lifts", "guards")
	locked := strings.Replace(lampRule, "  - keep: P2Y\n", "  - keep: P2Y\n    locked: the harbour act\n", 1)
	q.must(200, "POST", "/rules", m{"text": locked}) // tighter: nobody is asked
	loose := strings.Replace(locked, "P2Y", "P1Y", 1)
	id := q.asks(q.call("POST", "/rules", m{"text": loose, "reason": "the act has changed"}))
	if text := fmt.Sprint(q.must(200, "GET", "/rules/lamps", nil)); !strings.Contains(text, "P2Y") {
		t.Errorf("it is applied before: %s", text)
	}
	if a := q.nora.must(200, "POST", "/approvals/"+id+"/approve", m{}); a["state"] != "used" || a["trouble"] != "" {
		t.Errorf("%v", a)
	}
	if text := fmt.Sprint(q.must(200, "GET", "/rules/lamps", nil)); strings.Contains(text, "P2Y") {
		t.Errorf("it is not applied: %s", text)
	}

	hold := fmt.Sprint(
		q.must(201, "POST", "/holds", m{"source": "harbour", "table": "lamp", "where": "TRUE", "reference": "case 7",
			"reason": "a claim"})["id"],
	)
	id = q.asks(q.call("POST", "/holds/"+hold+"/lift", m{"reason": "settled"}))
	if a := q.nora.must(200, "POST", "/approvals/"+id+"/refuse", m{"reason": "not yet"}); a["state"] != "refused" {
		t.Errorf("%v", a)
	}
	if h := q.must(200, "GET", "/holds/"+hold, nil); h["lifted_at"] != nil {
		t.Errorf("%v", h)
	}
	id = q.asks(q.call("POST", "/holds/"+hold+"/lift", m{"reason": "settled"}))
	q.nora.must(200, "POST", "/approvals/"+id+"/approve", m{})
	if h := q.must(200, "GET", "/holds/"+hold, nil); h["lifted_at"] == nil || h["lifted_by"] != "administrator" {
		t.Errorf("%v", h)
	}

	id = q.asks(q.call("PUT", "/sources/harbour/guard", m{}))
	if status, p := q.nora.do("POST", "/approvals/"+id+"/refuse", m{}); status != 422 || p["field"] != "reason" {
		t.Errorf("refused without a reason: %d %v", status, p)
	}
	if status, _ := q.nora.do("POST", "/approvals/"+id+"/withdraw", m{"reason": "x"}); status != 422 {
		t.Errorf("another takes it back: %d", status)
	}
	if a := q.must(200, "POST", "/approvals/"+id+"/withdraw", m{"reason": "a slip"}); a["state"] != "void" {
		t.Errorf("%v", a)
	}
	for _, text := range []string{"everything", "runs:0", "lifts:above=5"} {
		if status, p := q.call("PUT", "/sources/harbour/guard", m{"approve": []string{text}}); status != 422 ||
			p["field"] != "approve" {
			t.Errorf("%s: %d %v", text, status, p)
		}
	}
	if status, p := q.call("GET", "/approvals?state=maybe", nil); status != 422 || p["field"] != "state" {
		t.Errorf("%d %v", status, p)
	}
}

// Somebody decides in another's place for a time; not on what they asked for, nor on what the other asked for.
func TestSomebodyDecidesForAnother(t *testing.T) {
	q := newQuay(t, "runs:2")
	mate := q.person("mia-mate", "operator", gulls, nil)
	id := q.asks(q.desk.do("POST", "/runs", m{"plan": q.plan()}))
	if status, _ := mate.do("POST", "/approvals/"+id+"/approve", m{}); status != 403 {
		t.Errorf("somebody without the right decides: %d", status)
	}
	for body, field := range map[string]m{"to": {"to": "nobody", "until": "P7D", "reason": "holidays"},
		"until":  {"to": "mia-mate", "until": "P1Y", "reason": "holidays"},
		"reason": {"to": "mia-mate", "until": "P7D", "reason": ""}} {
		if status, p := q.nora.do("POST", "/delegations", field); status != 422 || p["field"] != body {
			t.Errorf("%s: %d %v", body, status, p)
		}
	}
	if status, _ := mate.do("POST", "/delegations", m{"to": "nora-quay", "until": "P7D",
		"reason": "x"}); status != 422 {
		t.Errorf("who may not decide delegates: %d", status)
	}
	d := fmt.Sprint(
		q.nora.must(201, "POST", "/delegations", m{"to": "mia-mate", "until": "P7D", "reason": "holidays"})["id"],
	)
	q.nora.must(201, "POST", "/delegations", m{"to": "dora-desk", "until": "P7D", "reason": "holidays"})
	if status, _ := q.desk.do("POST", "/approvals/"+id+"/approve", m{}); status != 422 {
		t.Errorf("who asked decides in another's place: %d", status)
	}
	a := mate.must(200, "POST", "/approvals/"+id+"/approve", m{})
	if v := a["votes"].([]any)[0].(map[string]any); a["state"] != "waiting" || v["person"] != "mia-mate" ||
		v["for_person"] != "nora-quay" {
		t.Errorf("%v", a)
	}
	if status, p := q.nora.do("POST", "/approvals/"+id+"/approve", m{}); status != 409 {
		t.Errorf("a person counts twice: %d %v", status, p)
	}
	q.nora.must(204, "DELETE", "/delegations/"+d, nil)
	other := q.asks(q.desk.do("POST", "/runs", m{"plan": q.plan()}))
	if status, _ := mate.do("POST", "/approvals/"+other+"/approve", m{}); status != 403 {
		t.Errorf("a delegation that has ended: %d", status)
	}
	if status, _ := mate.do("DELETE", "/delegations/"+d, nil); status != 404 {
		t.Errorf("another ends a delegation: %d", status)
	}
}

// Who takes a request for a restore back has taken back the restore.
func TestARestoreIsTakenBackWithItsRequest(t *testing.T) {
	q := newQuay(t, "runs:2:above=100000", "restores")
	plan := q.plan()
	q.desk.must(202, "POST", "/runs", m{"plan": plan})
	q.runs(plan)
	r := q.desk.must(202, "POST", "/restores", m{"source": "harbour", "table": "lamp", "scope": m{"all": true},
		"target": "side", "target_table": "lamps_again"})
	if r["state"] != "asked" {
		t.Fatalf("%v", r)
	}
	a := q.must(200, "GET", "/approvals?state=waiting", nil)["items"].([]any)[0].(map[string]any)
	q.desk.must(200, "POST", fmt.Sprint("/approvals/", a["id"], "/withdraw"), m{"reason": "a slip"})
	r = q.must(200, "GET", fmt.Sprint("/restores/", r["id"]), nil)
	if r["state"] != "refused" || !strings.Contains(fmt.Sprint(r["reason"]), "taken back: a slip") {
		t.Errorf("%v", r)
	}
	if status, _ := q.nora.do("POST", fmt.Sprint("/restores/", r["id"], "/approve"), nil); status != 409 {
		t.Errorf("it is approved all the same: %d", status)
	}
}
