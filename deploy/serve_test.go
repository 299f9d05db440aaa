package deploy

import (
	"bufio"
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"
)

// program is what `make build` makes: what is packed.
const program = "../build/ambercellar"

// serve starts a command that is the service, and returns the address at which it listens.
func serve(t *testing.T, cmd *exec.Cmd) string {
	t.Helper()
	var log bytes.Buffer
	cmd.Stderr = &log
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		cmd.Process.Signal(syscall.SIGTERM)
		if err := cmd.Wait(); err != nil {
			t.Errorf("the service ended with %v\n%s", err, &log)
		}
	})
	for lines := bufio.NewScanner(out); lines.Scan(); {
		if at, ok := strings.CutPrefix(lines.Text(), "listening at "); ok {
			go io.Copy(io.Discard, out)
			return at
		}
	}
	t.Fatalf("the service does not start:\n%s", &log)
	return ""
}

func built(t *testing.T) string {
	t.Helper()
	path, err := filepath.Abs(program)
	if err == nil {
		_, err = os.Stat(path)
	}
	if err != nil {
		t.Fatalf("%v; run `make build` first", err)
	}
	return path
}

// TestTheImageNeedsNothingButTheProgram: what the Dockerfile puts into the image is put into a directory, which is then
// all that the program sees, as the user and with the arguments that the Dockerfile names.
func TestTheImageNeedsNothingButTheProgram(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root can change what a program sees")
	}
	file := read(t, "docker/Dockerfile")
	if !strings.Contains(file, "FROM scratch\nCOPY build/ambercellar /ambercellar\n") {
		t.Fatalf("the image holds more than the program:\n%s", file)
	}
	var uid, gid uint32
	if m := regexp.MustCompile(`(?m)^USER (.*)$`).FindStringSubmatch(file); m != nil {
		fmt.Sscanf(m[1], "%d:%d", &uid, &gid)
	}
	if uid == 0 {
		t.Fatal("the program runs as root")
	}
	root := t.TempDir()
	b, err := os.ReadFile(built(t))
	if err == nil {
		err = os.WriteFile(filepath.Join(root, "ambercellar"), b, 0o755)
	}
	for _, dir := range []string{"data", "tmp"} {
		if err == nil {
			err = os.Mkdir(filepath.Join(root, dir), 0o700)
		}
		if err == nil {
			err = os.Chown(filepath.Join(root, dir), int(uid), int(gid))
		}
	}
	if err == nil {
		err = os.Chmod(root, 0o755)
	}
	for dir := filepath.Dir(root); err == nil && dir != "/"; dir = filepath.Dir(dir) {
		if st, e := os.Stat(dir); e == nil && st.Mode()&0o001 == 0 && strings.HasPrefix(dir, os.TempDir()+"/") {
			err = os.Chmod(dir, 0o755)
		}
	}
	if err != nil {
		t.Fatal(err)
	}
	m := regexp.MustCompile(`(?m)^CMD \[(.*)\]$`).FindStringSubmatch(file)
	if m == nil {
		t.Fatal("the Dockerfile has no CMD")
	}
	var args []string
	for _, a := range strings.Split(m[1], ",") {
		args = append(args, strings.Trim(strings.TrimSpace(a), `"`))
	}
	inside := func(args ...string) *exec.Cmd {
		cmd := exec.Command("/ambercellar", args...)
		cmd.Dir, cmd.Env = "/", []string{}
		cmd.SysProcAttr = &syscall.SysProcAttr{Chroot: root, Credential: &syscall.Credential{Uid: uid, Gid: gid}}
		return cmd
	}
	if err := inside("version").Run(); errors.Is(err, syscall.EPERM) {
		t.Skip("this machine lets nobody change what a program sees")
	}
	at := serve(t, inside(append(args, "-listen", "127.0.0.1:0")...))
	answer, err := http.Get(at + "/readyz")
	if err != nil || answer.StatusCode != http.StatusOK {
		t.Errorf("%+v, %v", answer, err)
	}
}

// TestTheProxyHandsOn: nginx with the configuration that ships, in front of the service, speaks TLS; events come
// through as they happen, and figures do not.
func TestTheProxyHandsOn(t *testing.T) {
	data := t.TempDir()
	at := serve(t, exec.Command(built(t), "serve", "-data", data, "-listen", "127.0.0.1:0", "-hosts", "cellar.example"))
	dir := t.TempDir()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	made := x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour),
		DNSNames: []string{"cellar.example"}}
	cert, err := x509.CreateCertificate(rand.Reader, &made, &made, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := x509.MarshalECPrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := free.Addr().(*net.TCPAddr).Port
	free.Close()
	conf := read(t, "proxy/nginx.conf")
	for _, x := range [][2]string{{"listen 443 ssl", fmt.Sprintf("listen 127.0.0.1:%d ssl", port)},
		{"/etc/ssl/cellar.example.pem", dir + "/cert.pem"}, {"/etc/ssl/private/cellar.example.key", dir + "/key.pem"},
		{"http://127.0.0.1:7420", at}} {
		if !strings.Contains(conf, x[0]) {
			t.Fatalf("nginx.conf does not say %s", x[0])
		}
		conf = strings.Replace(conf, x[0], x[1], 1)
	}
	for name, text := range map[string][]byte{
		"cert.pem": pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: cert}),
		"key.pem":  pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: secret}),
		"nginx.conf": []byte("pid " + dir + "/pid;\nerror_log stderr;\nevents {}\nhttp {\naccess_log off;\n" +
			"client_body_temp_path " + dir + "/b;\nproxy_temp_path " + dir + "/p;\nfastcgi_temp_path " + dir +
			"/f;\nuwsgi_temp_path " + dir + "/u;\nscgi_temp_path " + dir + "/s;\n" + conf + "}\n"),
	} {
		if err := os.WriteFile(filepath.Join(dir, name), text, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	tool, err := exec.LookPath("nginx")
	if err != nil {
		tool = "/usr/sbin/nginx"
	}
	var said bytes.Buffer
	proxy := exec.Command(tool, "-p", dir, "-c", dir+"/nginx.conf", "-g", "daemon off;")
	proxy.Stderr = &said
	if err := proxy.Start(); err != nil {
		t.Fatalf("nginx is needed: %v", err)
	}
	defer func() {
		proxy.Process.Signal(syscall.SIGTERM)
		proxy.Wait()
	}()
	trusted := x509.NewCertPool()
	if c, err := x509.ParseCertificate(cert); err == nil {
		trusted.AddCert(c)
	}
	c := &http.Client{Timeout: 30 * time.Second, Transport: &http.Transport{TLSClientConfig: &tls.Config{
		RootCAs: trusted, ServerName: "cellar.example"}}}
	ask := func(method, path, body string) (*http.Response, error) {
		q, err := http.NewRequest(method, fmt.Sprintf("https://127.0.0.1:%d%s", port, path), strings.NewReader(body))
		if err != nil {
			return nil, err
		}
		q.Host = "cellar.example"
		q.Header.Set("Authorization", "Bearer "+strings.TrimSpace(read(t, data+"/administrator-token")))
		if body != "" {
			q.Header.Set("Content-Type", "application/json")
		}
		return c.Do(q)
	}
	answer, err := ask("GET", "/readyz", "")
	for begun := time.Now(); err != nil && time.Since(begun) < 20*time.Second; answer, err = ask("GET", "/readyz", "") {
		time.Sleep(20 * time.Millisecond) // until it listens
	}
	if err != nil || answer.StatusCode != 200 || answer.Header.Get("Strict-Transport-Security") == "" {
		t.Fatalf("%+v, %v\n%s", answer, err, &said)
	}
	if answer, err := ask("GET", "/metrics", ""); err != nil || answer.StatusCode != 404 {
		t.Errorf("figures: %+v, %v", answer, err)
	}
	events, err := ask("GET", "/api/v1/events", "")
	if err != nil || events.StatusCode != 200 {
		t.Fatalf("events: %+v, %v", events, err)
	}
	defer events.Body.Close()
	if answer, err := ask("POST", "/api/v1/freezes", `{"reason": "the proxy is tried"}`); err != nil ||
		answer.StatusCode != 201 {
		t.Fatalf("a freeze: %+v, %v", answer, err)
	}
	line, err := bufio.NewReader(events.Body).ReadString('\n')
	if err != nil || !strings.Contains(line, "changed") {
		t.Errorf("an event: %q, %v", line, err)
	}
}
