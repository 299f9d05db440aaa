package e2e

import (
	"net/url"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"ambercellar/client"
)

// Accounts by the command line: each may do what its role says and nothing else, asks for what another has to decide,
// and ends at once.
func TestAccountsMayDoWhatTheirRolesSay(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(300)
	w.define("archive", "unlimited")
	w.must("guard", "set", "harbour", "-approve", "restores")
	add := func(args ...string) string {
		return must1[client.MadeAccount](w, append([]string{"account", "add"}, args...)...).Token
	}
	ruler := w.token
	viewer, operator := add("view", "-role", "viewer"), add("desk", "-role", "operator", "-rows", "-expires", "P30D")
	approver := add("office", "-role", "approver")
	as := func(token string, do func()) {
		w.token = token
		do()
		w.token = ruler
	}
	as(operator, func() {
		if who := must1[client.Session](w, "whoami"); who.Actor != "desk" || len(who.Rights) != 3 {
			t.Errorf("the operator is %+v", who)
		}
		if r := w.ended(w.planned().ID); r.StartedBy != "desk" {
			t.Errorf("the run was started by %s", r.StartedBy)
		}
		w.refuse(1, []string{"desk is operator and may not change"}, "rule", "apply", "-f",
			w.rules("rule: other\n"))
	})
	as(viewer, func() {
		w.must("run", "list")
		w.refuse(1, []string{"view is viewer and may not plan, run"}, "plan", "make", "scans")
		w.refuse(1, []string{"may not see values of rows"}, "search", "harbour", "scan", "-where", "note = 'note 17'")
	})
	var asked string
	as(operator, func() {
		out, _, _ := w.run("restore", "request", "-source", "harbour", "-table", "scan", "-all-rows", "-wait=false",
			"-o", "json")
		l := must1[client.Items[client.Restore]](w, "restore", "list")
		if len(l.Items) != 1 || l.Items[0].State != "asked" {
			t.Fatalf("%+v\n%s", l.Items, out)
		}
		asked = l.Items[0].ID
		w.refuse(1, []string{"desk is operator and may not decide"}, "restore", "approve", asked)
	})
	as(approver, func() { w.must("restore", "approve", asked) })
	w.eventually("the restore is done", func() bool {
		return must1[client.Restore](w, "restore", "show", asked).State == "done"
	})
	if r := must1[client.Restore](w, "restore", "show", asked); r.ApprovedBy != "office" || r.CreatedBy != "desk" {
		t.Errorf("asked by %s, approved by %s", r.CreatedBy, r.ApprovedBy)
	}

	// The administrator may not decide on what the administrator asked for, where somebody else could.
	w.run("restore", "request", "-source", "harbour", "-table", "scan", "-all-rows", "-into", "side", "-wait=false")
	for _, r := range must1[client.Items[client.Restore]](w, "restore", "list").Items {
		if r.State == "asked" {
			w.refuse(1, []string{"administrator has asked for it and may not approve it"}, "restore", "approve", r.ID)
		}
	}
	w.must("account", "revoke", "desk", "-reason", "the desk has moved")
	as(operator, func() { w.refuse(1, []string{"nor that of an account that stands"}, "run", "list") })
	out := w.must("account", "list")
	for _, want := range []string{"office", "approver", "from 127.0.0.1", "revoked", "the desk has moved"} {
		if !strings.Contains(out, want) {
			t.Errorf("the list does not say %q:\n%s", want, out)
		}
	}
}

// An account is made in the browser, its token is shown once, and whoever signs in with it may do what its role says.
func TestAccountsAreMadeInTheBrowser(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	p := browse(t)
	p.do(chromedp.Navigate(w.svc.server + "/#token=" + url.QueryEscape(w.token)))
	p.sees("Overview")
	p.do(chromedp.Navigate(w.svc.server + "/#/settings/accounts"))
	p.sees("No account yet")
	p.press("Add an account")
	p.choose("#account-kind", "service")
	p.fill("#account-name", "Harbour Desk")
	p.press("Make the account")
	p.sees("is not a name for an account")
	p.fill("#account-name", "harbour-desk")
	p.fill("#account-about", "the desk of the harbour office")
	p.choose("#account-role", "viewer")
	p.press("Make the account")
	p.sees("which is shown this once", "the desk of the harbour office", "never")
	token, err := chromedp.Run(p.ctx,
		chromedp.Evaluate[string]("document.querySelector('[data-testid=token]').innerText"))
	if err != nil || !strings.HasPrefix(token, "amber_") {
		t.Fatalf("the token is %q (%v)", token, err)
	}
	w.must("account", "add", "a-script", "-role", "operator")
	p.press("Stores")
	p.sees("cellar")
	p.press("Accounts")
	p.sees("a-script", "harbour-desk")
	p.do(chromedp.Click(css("button[aria-label='End the account a-script']"), chromedp.NodeVisible))
	p.fill("input[aria-label='Reason']", "nobody runs it")
	p.press("End it")
	p.sees("revoked", "nobody runs it")
	p.press("Sign out")
	p.press("With a token")
	p.fill("#token", token)
	p.press("Sign in")
	p.sees("Overview")
	p.do(chromedp.Navigate(w.svc.server + "/#/settings/accounts"))
	p.sees("You may not do that", "harbour-desk is viewer and may not change what the service is told")
	p.do(chromedp.Navigate(w.svc.server + "/#/runs"))
	p.sees("No run yet")

	// When the account ends, its page is signed out: what happens flows to it no more.
	w.must("account", "revoke", "harbour-desk", "-reason", "the desk has moved")
	p.sees("An administrator makes an account for you")
}
