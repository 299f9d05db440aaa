package e2e

import (
	"bufio"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/pquerna/otp/totp"

	"ambercellar/client"
	"ambercellar/internal/standin"
)

// firstUser makes a person and returns the password for the first sign-in.
func (w *world) firstUser(name string, more ...string) string {
	w.t.Helper()
	return must1[client.MadeAccount](w, append([]string{"user", "add", name}, more...)...).Password
}

// typed has commands read these lines.
func (w *world) typed(lines ...string) *world {
	w.input = strings.Join(lines, "\n") + "\n"
	return w
}

// A person signs in at the command line, which keeps the session in their own directory of settings.
func TestThePersonSignsInAtTheCommandLine(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(10)
	w.define("archive", "unlimited")
	settings := t.TempDir()
	w.env = []string{"XDG_CONFIG_HOME=" + settings, "AMBERCELLAR_TOKEN="}
	const own = "seven grey gulls on a pier"
	first := w.firstUser("nora-quay", "-role", "operator", "-rows", "-data", filepath.Join(w.dir, "data"))
	w.refuse(1, []string{"sign in with `ambercellar login`"}, "run", "list")
	w.typed("a wrong password").refuse(1, []string{"is wrong"}, "login", "nora-quay")
	w.typed(first, own, "something else").refuse(1, []string{"two different passwords"}, "login", "nora-quay")
	w.typed(first, own, own).must("login", "nora-quay")
	if who := must1[client.Session](w, "whoami"); who.Actor != "nora-quay" || who.Session == "" {
		t.Errorf("%+v", who)
	}
	file := filepath.Join(settings, "ambercellar", "profiles.json")
	if st, err := os.Stat(file); err != nil || st.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", st, err)
	}
	if out := w.must("profile", "list", "-o", "json"); strings.Contains(out, "amber_session") ||
		!strings.Contains(out, w.svc.server) {
		t.Errorf("%s", out)
	}

	// The token goes to its own service alone, and a file that others may read is not used.
	heard := ""
	other := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		heard += r.Header.Get("Authorization")
	}))
	defer other.Close()
	w.run("run", "list", "-server", other.URL)
	if !strings.Contains(heard, "Bearer") || strings.Contains(heard, "amber_session") {
		t.Errorf("another service is told %q", heard)
	}
	if err := os.Chmod(file, 0o644); err != nil {
		t.Fatal(err)
	}
	w.refuse(1, []string{"others may read it", "chmod 600"}, "run", "list")
	if err := os.Chmod(file, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte("{nonsense"), 0o600); err != nil {
		t.Fatal(err)
	}
	w.refuse(1, []string{"the profiles in"}, "run", "list")
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	w.refuse(2, []string{"there is no profile \"quay\""}, "run", "list", "-as", "quay", "-server", "")
	w.typed(own).must("login", "nora-quay", "-as", "quay")

	// A second factor, asked for at the next sign-in.
	out, _, status := w.typed(own, "000000").run("second-factor", "set")
	secret := strings.Fields(out[strings.Index(out, "secret"):])[1]
	if status != 1 {
		t.Errorf("a wrong code is taken: %s", out)
	}
	code := func(shift time.Duration) string {
		c, err := totp.GenerateCode(secret, time.Now().Add(shift))
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	// the secret is a new one each time: the one that is shown is read before the code is typed
	cmd := exec.Command(program, "second-factor", "set")
	cmd.Env = append(append(os.Environ(), "AMBERCELLAR_SERVER="+w.svc.server), w.env...)
	in, err := cmd.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	stdout, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprintln(in, own)
	text := ""
	for buffer := make([]byte, 4096); !strings.Contains(text, "otpauth"); {
		n, err := stdout.Read(buffer)
		if text += string(buffer[:n]); err != nil {
			t.Fatalf("%v: %s", err, text)
		}
	}
	secret = strings.Fields(text)[1]
	fmt.Fprintln(in, code(-30*time.Second))
	if err := cmd.Wait(); err != nil {
		t.Fatal(err)
	}
	w.must("logout")
	w.refuse(1, []string{"sign in with"}, "run", "list")
	w.typed(own, code(0)).must("login", "nora-quay")
	if out := w.must("whoami"); !strings.Contains(out, "second factor  yes") {
		t.Errorf("%s", out)
	}
	w.typed(own, "brand new words for me", "brand new words for me").must("password")
	w.must("run", "list")
	l := must1[client.Items[client.OpenSession]](w, "session", "list")
	w.must("session", "end", l.Items[0].ID)
	w.refuse(1, []string{"neither the administrator's token"}, "run", "list")
}

// Runs wait for others: at the command line with a status of its own, in a pipeline, and in the inbox of the console.
func TestOthersApproveARun(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(300)
	w.define("archive", "unlimited")
	w.must("guard", "set", "harbour", "-approve", "runs:2:above=100,loosenings")
	if out := w.must("guard", "show", "harbour"); !strings.Contains(out, "runs:2:above=100") {
		t.Errorf("%s", out)
	}
	ruler := w.token
	add := func(name, role string) string {
		return must1[client.MadeAccount](w, "account", "add", name, "-role", role).Token
	}
	planner, approver := add("planner", "operator"), add("checker", "approver")
	password := w.firstUser("nora-quay", "-role", "approver")
	w.token = planner
	p := must1[client.Plan](w, "plan", "make", "scans", "-exact")
	w.refuse(3, []string{"2 others have to approve it first", "it begins by itself then"}, "run", "start", p.ID)
	asked := must1[client.Items[client.Approval]](w, "approval", "list").Items
	if len(asked) != 1 || asked[0].Subject != p.ID || asked[0].AskedBy != "planner" {
		t.Fatalf("%+v", asked)
	}
	w.refuse(1, []string{"planner has asked for it and may not approve it"}, "approval", "approve", asked[0].ID)
	w.token = approver
	w.refuse(1, []string{"refusal needs a reason"}, "approval", "refuse", asked[0].ID)
	if out := w.must("approval", "approve", asked[0].ID, "-reason", "as agreed"); !strings.Contains(out, "1 of 2") {
		t.Errorf("%s", out)
	}

	b := browse(t)
	b.do(chromedp.Navigate(w.svc.server))
	b.fill("#name", "nora-quay")
	b.fill("#password", password)
	b.press("Sign in")
	b.sees("Choose a password of your own")
	b.fill("#new-password", "seven grey gulls")
	b.fill("#again-password", "seven grey gulls on a pier")
	b.sees("These are two different passwords")
	b.fill("#new-password", "seven grey gulls on a pier")
	b.press("Change the password")
	b.sees("Overview", "nora-quay, approver")
	if text := b.text(); strings.Contains(text, "Freeze …") || strings.Contains(text, "Search") {
		t.Errorf("an approver is offered what operators do:\n%s", text)
	}
	b.press("Approvals")
	b.sees(
		"Run in harbour",
		"1 of 2 approved",
		"asked by planner",
		"the last run of the rule",
		"there was none",
		"as agreed",
	)
	b.press("Approve")
	b.sees("Nothing waits for anybody")
	w.token = planner
	w.eventually("the run is done", func() bool {
		l := must1[client.Items[client.RunView]](w, "run", "list").Items
		return len(l) == 1 && l[0].State == client.Done && l[0].StartedBy == "planner"
	})

	// The run in one document, which is checked without the service; who may not see rows has no plan to compare with.
	id := must1[client.Items[client.RunView]](w, "run", "list").Items[0].ID
	w.token = ruler
	file := filepath.Join(w.dir, "run.json")
	cellarAt := filepath.Join(w.dir, "data", "cellar")
	w.must("run", "report", id, "-out", file)
	if out := w.must("run", "check", file, "-store", cellarAt); !strings.Contains(out, "it holds") {
		t.Errorf("%s", out)
	}
	text, err := os.ReadFile(file)
	if err != nil || !strings.Contains(string(text), "as agreed") || !strings.Contains(string(text), "rule: scans") {
		t.Fatalf("%v: %s", err, text)
	}
	for was, is := range map[string]string{`"actor": "planner"`: `"actor": "somebody"`, `\"due\":`: `\"dew\":`,
		`"person": "nora-quay"`: `"person": "checker"`, `"deleted": 300`: `"deleted": 299`} {
		forged := strings.Replace(string(text), was, is, 1)
		if is == `"person": "checker"` {
			forged = strings.ReplaceAll(string(text), was, is)
		}
		bad := filepath.Join(t.TempDir(), "forged.json")
		if err := os.WriteFile(bad, []byte(forged), 0o600); err != nil || forged == string(text) {
			t.Fatalf("%s is not in the report (%v)", was, err)
		}
		w.refuse(1, []string{"does not hold"}, "run", "check", bad, "-store", cellarAt)
	}
	w.must("run", "report", id, "-out", filepath.Join(w.dir, "run.pdf"))
	if b, err := os.ReadFile(filepath.Join(w.dir, "run.pdf")); err != nil || !strings.HasPrefix(string(b), "%PDF-") {
		t.Errorf("%v", err)
	}
	w.token = planner
	w.must("run", "report", id, "-out", filepath.Join(w.dir, "less.json"))
	if b, err := os.ReadFile(filepath.Join(w.dir, "less.json")); err != nil || strings.Contains(string(b), `\"Plan\"`) {
		t.Errorf("who may not see rows is shown the plan's text: %v", err)
	}

	// Who may see nothing more is offered nothing more, and an address that they may not see says so.
	b.do(chromedp.Navigate(w.svc.server + "/#/settings/accounts"))
	b.sees("You may not do that", "nora-quay is approver")
	b.do(chromedp.Navigate(w.svc.server + "/#/account"))
	b.sees("My account", "see, approve", "this one")

	// A command line is signed in from there.
	home := t.TempDir()
	cmd := exec.Command(program, "login", "-console")
	cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+home, "AMBERCELLAR_SERVER="+w.svc.server, "AMBERCELLAR_TOKEN=")
	says, err := cmd.StderrPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	said := ""
	for lines := bufio.NewScanner(says); lines.Scan(); {
		said += lines.Text() + "\n"
		if code := strings.TrimSpace(lines.Text()); len(code) == 9 && code[4] == '-' {
			b.fill("input[placeholder='ABCD-EFGH']", code)
			b.press("Sign it in")
			b.sees("The command line is signed in as you")
		}
	}
	if err := cmd.Wait(); err != nil || !strings.Contains(said, "as nora-quay") {
		t.Errorf("%v: %s", err, said)
	}
	who := exec.Command(program, "whoami")
	who.Env = append(os.Environ(), "XDG_CONFIG_HOME="+home, "AMBERCELLAR_TOKEN=", "AMBERCELLAR_SERVER=")
	if out, err := who.CombinedOutput(); err != nil || !strings.Contains(string(out), "nora-quay") {
		t.Errorf("%v: %s", err, out)
	}
	b.do(chromedp.Navigate(w.svc.server + "/#/audit"))
	b.sees("approval approve", "run start", "planner", "127.0.0.1")
	b.press("Verify the log")
	b.sees("each as it was written")
	b.fill("input[aria-label='who']", "checker")
	b.press("Show")
	b.comesTo(
		"[...new Set([...document.querySelectorAll('[aria-label=\"Audit log\"] tbody tr td:nth-child(3)')].map((x) => "+
			"x.innerText))].join()",
		"checker",
	)
	b.press("Export what is shown")
	b.sees("who checker", "Download", "until")
	b.press("Export again and again …")
	b.fill("input[placeholder='quarter']", "month")
	b.press("Keep the schedule")
	b.sees("monthly on the 1st at 06:00", "by nora-quay")
	w.token = approver
	zipped := filepath.Join(w.dir, "audit.zip")
	w.must("audit", "export", "-background", "-format", "ndjson", "-kind", "approval", "-out", zipped)
	if b, err := os.ReadFile(zipped); err != nil || !strings.HasPrefix(string(b), "PK") {
		t.Errorf("%v", err)
	}
	if list := w.must("audit", "exports"); !strings.Contains(list, "kind approval") {
		t.Errorf("%s", list)
	}
	w.refuse(2, []string{"add -background"}, "audit", "export", "-tell", "desk@harbour.example", "-out", "x")

	// The pipeline: what it may decide by itself, and what it leaves to people.
	bin := t.TempDir()
	if err := os.Symlink(program, filepath.Join(bin, "ambercellar")); err != nil {
		t.Fatal(err)
	}
	pipeline := func(most string) (string, int) {
		cmd := exec.Command("../../deploy/approved-run.sh", "scans", most)
		cmd.Env = append(os.Environ(), "PATH="+bin+":"+os.Getenv("PATH"), "AMBERCELLAR_SERVER="+w.svc.server,
			"PLANNER="+planner, "APPROVER="+approver)
		out, _ := cmd.CombinedOutput() // the status says it
		return string(out), cmd.ProcessState.ExitCode()
	}
	w.token = ruler
	w.must("guard", "set", "harbour", "-approve", "runs")
	w.exec("INSERT INTO scan WITH RECURSIVE s (g) AS (SELECT 1 UNION ALL SELECT g + 1 FROM s WHERE g < 20) " +
		"SELECT g + 5000, 1, '2020-05-05 00:00:00', 1, 'late ' || g FROM s")
	if out, status := pipeline("5"); status != 3 || !strings.Contains(out, "people decide on it") {
		t.Errorf("status %d: %s", status, out)
	}
	if out, status := pipeline("1000"); status != 0 || !strings.Contains(out, "done") {
		t.Errorf("status %d: %s", status, out)
	}
}

// pem writes a block into a file.
func pemFile(t *testing.T, path, kind string, bytes []byte) string {
	t.Helper()
	if err := os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: bytes}), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// certify makes a certificate of a name by an authority, or an authority where there is none yet.
func certify(t *testing.T, dir, name string, by *tls.Certificate) *tls.Certificate {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	is := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name},
		NotBefore: time.Now().Add(
			-time.Hour,
		), NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		IsCA: by == nil, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth, x509.ExtKeyUsageServerAuth}}
	parent, signer := is, any(key)
	if by != nil {
		parent, signer = by.Leaf, by.PrivateKey
	}
	der, err := x509.CreateCertificate(rand.Reader, is, parent, &key.PublicKey, signer)
	if err != nil {
		t.Fatal(err)
	}
	leaf, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	pemFile(t, filepath.Join(dir, name+".crt"), "CERTIFICATE", der)
	pemFile(t, filepath.Join(dir, name+".key"), "PRIVATE KEY", secret)
	return &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key, Leaf: leaf}
}

// A service comes in with a client certificate in place of a token: where an authority vouches for it that the service
// was told of, and as the account of that name alone.
func TestServicesComeInWithACertificate(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.must("account", "add", "tidy-script", "-role", "operator")
	w.must("user", "add", "nora-quay", "-role", "administrator")
	w.stop(syscall.SIGTERM)
	dir := t.TempDir()
	authority, other := certify(t, dir, "authority", nil), certify(t, dir, "other", nil)
	certify(t, dir, "server", authority)
	file := func(name string) string { return filepath.Join(dir, name) }
	w.start("-tls-cert", file("server.crt"), "-tls-key", file("server.key"), "-client-ca", file("authority.crt"))
	roots := x509.NewCertPool()
	roots.AddCert(authority.Leaf)
	ask := func(method, path string, with *tls.Certificate, header ...string) (int, string) {
		t.Helper()
		how := &tls.Config{RootCAs: roots}
		if with != nil {
			how.Certificates = []tls.Certificate{*with}
		}
		c := &http.Client{Transport: &http.Transport{TLSClientConfig: how}}
		defer c.CloseIdleConnections()
		req, err := http.NewRequest(method, w.svc.server+"/api/v1"+path, strings.NewReader(`{"reason":"x"}`))
		if err != nil {
			t.Fatal(err)
		}
		for i := 0; i < len(header); i += 2 {
			req.Header.Set(header[i], header[i+1])
		}
		resp, err := c.Do(req)
		if err != nil {
			return 0, err.Error()
		}
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		if err != nil {
			t.Fatal(err)
		}
		return resp.StatusCode, string(b)
	}
	script := certify(t, dir, "tidy-script", authority)
	if status, body := ask("GET", "/session", script); status != 200 ||
		!strings.Contains(body, `"actor":"tidy-script"`) {
		t.Errorf("%d %s", status, body)
	}
	if status, body := ask("POST", "/freezes", script); status != 201 {
		t.Errorf("it does what it may: %d %s", status, body)
	}
	if status, _ := ask("GET", "/accounts", script); status != 403 {
		t.Errorf("it does what it may not: %d", status)
	}
	for name, x := range map[string]struct {
		with   *tls.Certificate
		header []string
	}{"nobody's": {nil, nil}, "of an account that is not there": {certify(t, dir, "ghost", authority), nil},
		"of a person":           {certify(t, dir, "nora-quay", authority), nil},
		"of another authority":  {certify(t, dir, "tidy-script", other), nil},
		"with a wrong token":    {script, []string{"Authorization", "Bearer amber_wrong"}},
		"in a browser":          {script, []string{"Sec-Fetch-Site", "cross-site"}},
		"from another site":     {script, []string{"Origin", "https://elsewhere.example"}},
		"with an ended session": {script, []string{"Cookie", "ambercellar_session=x"}},
	} {
		if status, body := ask("GET", "/status", x.with, x.header...); status == 200 {
			t.Errorf("a certificate %s is let in: %s", name, body)
		}
	}
}

// Single sign-on in the browser: by way of the provider and back, to the page as who it says.
func TestSingleSignOnInTheBrowser(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	provider := &standin.Identity{Client: "ambercellar", People: map[string]standin.Identified{
		"nora": {Subject: "1", Name: "Nora Quay", Groups: []string{"desk"}}}}
	server := httptest.NewServer(provider)
	t.Cleanup(server.Close)
	provider.Address = server.URL
	address := w.svc.server // the port stays free for the next start
	w.stop(syscall.SIGTERM)
	w.start(
		"-listen",
		strings.TrimPrefix(address, "http://"),
		"-oidc-issuer",
		provider.Address,
		"-oidc-client",
		"ambercellar",
		"-console-url",
		address,
		"-oidc-roles",
		"desk=operator",
	)
	b := browse(t)
	b.do(chromedp.Navigate(address))
	b.press("Sign in by single sign-on")
	b.sees("Who are you?")
	b.press("nora")
	b.sees("Overview", "nora, operator")
	b.do(chromedp.Navigate(address + "/#/account"))
	b.sees("My account", "this one")
	b.press("Sign out")
	b.sees("Sign in by single sign-on")
	if out := w.must("audit", "list", "-kind", "service", "-o", "json"); !strings.Contains(out,
		"oidc-issuer: usual → "+provider.Address) {
		t.Errorf("how the service was told to run is not recorded:\n%s", out)
	}
}

// On a disk that is full nobody comes in unrecorded, and nobody sees rows; what needs no record goes on. With room
// again, all is as before, and the audit log holds.
func TestNobodyComesInUnrecordedOnAFullDisk(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Log("not root: the small file system cannot be mounted here")
		return
	}
	w := newWorld(t, "sqlite")
	w.stop(syscall.SIGTERM)
	data := filepath.Join(w.dir, "data")
	if err := syscall.Mount("tmpfs", data, "tmpfs", 0, "size=24m"); err != nil {
		t.Logf("this machine mounts no file systems: %v", err)
		w.start()
		return
	}
	t.Cleanup(func() { syscall.Unmount(data, syscall.MNT_DETACH) })
	w.start()
	w.scans(50)
	w.must("source", "add", "harbour", "-engine", "sqlite", "-address", w.dsn)
	w.must("rule", "apply", "-f", w.rules(fmt.Sprintf(scanRule, "archive", "archive: {store: cellar}", "unlimited")))
	plan := must1[client.Plan](w, "plan", "make", "scans").ID
	password := w.firstUser("nora-quay", "-role", "viewer")
	signIn := func(with string) (int, string) {
		t.Helper()
		body := fmt.Sprintf(`{"name":"nora-quay","password":%q}`, with)
		req, err := http.NewRequest("POST", w.svc.server+"/api/v1/session", strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		if err != nil {
			t.Fatal(err)
		}
		return resp.StatusCode, string(b) + resp.Header.Get("Set-Cookie")
	}
	filler := filepath.Join(data, "filler")
	fill(t, filler)
	refused := 0
	for range 300 { // what the catalog's files still have room for is used up
		status, body := signIn(password)
		if status == http.StatusCreated || status == http.StatusOK {
			continue
		}
		if refused++; status != http.StatusInsufficientStorage || strings.Contains(body, "ambercellar_session=") ||
			!strings.Contains(body, "room") {
			t.Fatalf("%d %s", status, body)
		}
		if refused == 3 {
			break
		}
	}
	if refused == 0 {
		t.Fatal("the disk is full, and everybody comes in")
	}
	if status, body := signIn("wrong " + password); status == http.StatusOK || status == http.StatusCreated {
		t.Errorf("with a wrong password: %d %s", status, body)
	}
	req, err := http.NewRequest("GET", w.svc.server+"/api/v1/plans/"+plan+"/sample", nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+w.token)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	if resp.Body.Close(); resp.StatusCode != http.StatusInsufficientStorage {
		t.Errorf("rows are shown that nobody recorded: %d", resp.StatusCode)
	}
	w.must("rule", "list")
	if err := os.Remove(filler); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(30 * time.Second); ; time.Sleep(200 * time.Millisecond) {
		if status, body := signIn(password); status == http.StatusOK || status == http.StatusCreated {
			break
		} else if time.Now().After(end) {
			t.Fatalf("with room again: %d %s", status, body)
		}
	}
	w.must("audit", "verify")
}

// No secret stands in a process list: none is taken as an argument, and the service has none in its own.
func TestNoSecretStandsInAProcessList(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	password := w.firstUser("nora-quay", "-role", "viewer")
	found := make(chan string, 1)
	ctx, stop := context.WithCancel(t.Context())
	var watching sync.WaitGroup
	watching.Go(func() {
		for ctx.Err() == nil {
			list, _ := filepath.Glob("/proc/[0-9]*/cmdline")
			for _, path := range list {
				b, _ := os.ReadFile(path) // or it has ended
				for _, secret := range []string{password, w.token, strings.TrimPrefix(w.token, "amber_")} {
					if strings.Contains(string(b), secret) {
						select {
						case found <- strings.ReplaceAll(string(b), "\x00", " "):
						default:
						}
					}
				}
			}
			time.Sleep(time.Millisecond)
		}
	})
	w.must("account", "list")
	w.must("account", "add", "script", "-role", "viewer")
	w.must("audit", "verify")
	stop()
	watching.Wait()
	select {
	case line := <-found:
		t.Errorf("a secret stands in the process list: %s", line)
	default:
	}
}
