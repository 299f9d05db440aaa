package postgres

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/dbtest"
	"ambercellar/internal/source"
)

// certificate makes a self-signed one for a name or address.
func certificate(t *testing.T, host string) (cert, key []byte) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: host},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IsCA: true,
		BasicConstraintsValid: true}
	if ip := net.ParseIP(host); ip != nil {
		template.IPAddresses = []net.IP{ip}
	} else {
		template.DNSNames = []string{host}
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &k.PublicKey, k)
	if err != nil {
		t.Fatal(err)
	}
	private, err := x509.MarshalECPrivateKey(k)
	if err != nil {
		t.Fatal(err)
	}
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
		pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: private})
}

func TestTheServersCertificateIsVerified(t *testing.T) {
	cert, key := certificate(t, "127.0.0.1")
	other, _ := certificate(t, "127.0.0.1")
	s, err := dbtest.StartTLS(cert, key, "fsync=off")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Stop)
	dir := t.TempDir()
	for name, content := range map[string][]byte{"good.pem": cert, "other.pem": other} {
		if err := os.WriteFile(filepath.Join(dir, name), content, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	address := fmt.Sprintf("postgres://postgres@127.0.0.1:%d/postgres", s.Port)
	for _, c := range []struct {
		name, address, tls, ca, want string // want: the report's TLS, or part of the error
	}{
		{"by the right authority", address, "verify", "good.pem", "on"},
		{"by another authority", address, "verify", "other.pem", "certificate"},
		{"for another name", strings.Replace(address, "127.0.0.1", "localhost", 1), "verify", "good.pem",
			"certificate"},
		{"not at all, but encrypted", address, "require", "", "on"},
		{"off", address, "off", "", "off"},
	} {
		t.Run(c.name, func(t *testing.T) {
			cfg := source.Config{Name: "harbour", Address: c.address, TLS: c.tls}
			if c.ca != "" {
				cfg.TLSCA = filepath.Join(dir, c.ca)
			}
			src, err := Open(t.Context(), cfg)
			if err != nil {
				t.Fatal(err)
			}
			defer src.Close()
			r, err := src.Check(t.Context())
			if err != nil && !strings.Contains(err.Error(), c.want) || err == nil && r.TLS != c.want {
				t.Errorf("got %+v, %v; want %s", r, err, c.want)
			}
		})
	}
}

func TestTLSIsVerifiedUnlessTheServerIsOnThisMachine(t *testing.T) {
	for address, verified := range map[string]bool{"postgres://u@db.example:5432/x": true,
		"postgres://u@192.0.2.1/x": true, "postgres://u@127.0.0.1/x": false, "postgres://u@localhost/x": false,
		"postgres:///x?host=/run/postgresql": false} {
		pc, err := poolConfig(source.Config{Address: address})
		if err != nil {
			t.Fatal(err)
		}
		c := pc.ConnConfig.TLSConfig
		if got := c != nil && !c.InsecureSkipVerify && c.ServerName != ""; got != verified {
			t.Errorf("%s: verified is %v", address, got)
		}
		if len(pc.ConnConfig.Fallbacks) > 0 && verified {
			t.Errorf("%s: it would fall back to something else", address)
		}
	}
}

func TestPasswordsComeFromWhereTheSourceSays(t *testing.T) {
	file := filepath.Join(t.TempDir(), "password")
	if err := os.WriteFile(file, []byte("from the file\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv("HARBOUR_PASSWORD", "from the environment")
	t.Setenv("PGPASSWORD", "of somebody else")
	for _, c := range []struct {
		cfg  source.Config
		want string
	}{{source.Config{PasswordFile: file}, "from the file"}, {source.Config{PasswordEnv: "HARBOUR_PASSWORD"},
		"from the environment"}, {source.Config{}, ""}} {
		c.cfg.Address = "postgres://u@127.0.0.1/x"
		pc, err := poolConfig(c.cfg)
		if err != nil {
			t.Fatal(err)
		}
		if err := pc.BeforeConnect(t.Context(), pc.ConnConfig); err != nil || pc.ConnConfig.Password != c.want {
			t.Errorf("got %q, %v; want %q", pc.ConnConfig.Password, err, c.want)
		}
	}
}

// A server that asks for the password in clear does not get it without TLS. TLS is left out for this machine alone,
// whatever an address is made to look like; and an address names no files with secrets.
func TestAPasswordGoesNowhereInClear(t *testing.T) {
	t.Setenv("HARBOUR_PASSWORD", "s3cret")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	got := make(chan []byte, 10)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			c.SetDeadline(time.Now().Add(5 * time.Second))
			b := make([]byte, 1024)
			if _, err := c.Read(b); err == nil {
				c.Write([]byte{'R', 0, 0, 0, 8, 0, 0, 0, 3}) // AuthenticationCleartextPassword
				n, _ := c.Read(b)
				got <- b[:n]
			}
			c.Close()
		}
	}()
	for _, mode := range []string{"", "off"} {
		src, err := Open(t.Context(), source.Config{Name: "harbour", Address: "postgres://u@" + l.Addr().String() +
			"/x", PasswordEnv: "HARBOUR_PASSWORD", TLS: mode})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := src.Check(t.Context()); err == nil {
			t.Error("it signed in")
		}
		if b := <-got; strings.Contains(string(b), "s3cret") {
			t.Errorf("tls %q: the server was given %q", mode, b)
		}
		src.Close()
	}
	for address, verified := range map[string]bool{"postgres://u@harbour.example/x": true,
		"postgres://u@127.0.0.1,harbour.example/x": true, "postgres://u@127.0.0.1/x?host=harbour.example": true,
		"postgres://u@/x?host=/run/postgresql": false, "postgres://u@127.0.0.1/x": false,
		"postgres://u@[::1]/x": false, "postgres://u@localhost/x": false, "postgres://u@localhost.example/x": true} {
		pc, err := poolConfig(source.Config{Address: address})
		if err != nil || (pc.ConnConfig.TLSConfig != nil) != verified {
			t.Errorf("%s: TLS %v, %v", address, pc.ConnConfig.TLSConfig != nil, err)
		}
	}
	for _, address := range []string{"postgres://u:x@127.0.0.1/x", "postgres://u@127.0.0.1/x?password=x",
		"postgres://u@127.0.0.1/x?passfile=/etc/shadow",
		"postgres://u@127.0.0.1/x?servicefile=/etc/shadow&service=x"} {
		if _, err := poolConfig(source.Config{Address: address}); err == nil {
			t.Errorf("%s is taken", address)
		}
	}
	elsewhere := func(context.Context, string, string) (net.Conn, error) { return far{}, nil }
	if c, err := source.LocalOnly(elsewhere)(t.Context(), "tcp", "localhost:5432"); err == nil {
		t.Errorf("a name of this machine that leads elsewhere: %v", c)
	}
}

// far is a connection to another machine.
type far struct{ net.Conn }

func (far) RemoteAddr() net.Addr { return &net.TCPAddr{IP: net.IPv4(192, 0, 2, 7), Port: 5432} }
func (far) Close() error         { return nil }

func TestConnectionsAreLimited(t *testing.T) {
	for given, want := range map[int]int32{0: 3, 4: 4, 17: 17} {
		pc, err := poolConfig(source.Config{Address: "postgres://u@127.0.0.1/x", Connections: given})
		if err != nil || pc.MaxConns != want {
			t.Errorf("%d connections: at most %d, %v", given, pc.MaxConns, err)
		}
	}
}

// Where every session is cut off, one statement hears of it: the next has a new connection, however many old ones
// there were.
func TestOneDeadConnectionTellsOfTheOthers(t *testing.T) {
	src, exec := open(t)
	s := src.(*Source)
	if err := s.PrepareJournal(t.Context()); err != nil {
		t.Fatal(err)
	}
	for name, ask := range map[string]func() error{
		"a row":         func() error { _, err := s.Lineage(t.Context(), "scan"); return err },
		"rows":          func() error { _, err := s.Tables(t.Context()); return err },
		"a statement":   func() error { return s.SetHead(t.Context(), "scan", source.Head{Sequence: 1, Hash: "x"}) },
		"a transaction": func() error { return s.SetEpoch(t.Context(), "scan", 1) },
	} {
		for tries := 0; ; tries++ {
			var idle []interface{ Release() }
			for range 4 {
				c, err := s.pool.Acquire(t.Context())
				if err != nil {
					t.Fatal(err)
				}
				idle = append(idle, c)
			}
			for _, c := range idle {
				c.Release()
			}
			since := time.Now()
			exec("SELECT pg_terminate_backend(pid, 10000) FROM pg_stat_activity WHERE application_name = " +
				"'ambercellar'")
			err := ask()
			if err == nil && time.Since(since) > 900*time.Millisecond && tries < 20 {
				continue // the pool tries out a connection first that was idle for a second
			}
			if !errors.Is(err, source.ErrUnreachable) {
				t.Errorf("%s: on a dead connection: %v", name, err)
			}
			break
		}
		if err := ask(); err != nil {
			t.Errorf("%s: tried again: %v", name, err)
		}
	}
}

// A dot can stand in a name or between two. Where both would be called the same, neither is taken for the other.
func TestTwoTablesOfOneNameAreRefused(t *testing.T) {
	src, exec := open(t)
	exec(`CREATE SCHEMA dot; CREATE TABLE "dot.ted" (id integer PRIMARY KEY, mine text); CREATE TABLE dot.other ` +
		`(id integer PRIMARY KEY)`)
	if one, err := src.Table(t.Context(), "dot.ted"); err != nil || one.Schema != "public" || len(one.Obstacles) != 0 {
		t.Fatalf("alone: %+v, %v", one, err)
	}
	exec("CREATE TABLE dot.ted (id integer PRIMARY KEY, theirs text)")
	if one, err := src.Table(t.Context(), "dot.ted"); !errors.Is(err, source.ErrNoTable) ||
		!strings.Contains(err.Error(), "rename") {
		t.Errorf("one of two was taken: %+v, %v", one, err)
	}
	all, err := src.Tables(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range all {
		if (len(x.Obstacles) > 0) != (x.Name == "dot.ted") {
			t.Errorf("%s.%s: obstacles %v", x.Schema, x.Base, x.Obstacles)
		}
	}
}
