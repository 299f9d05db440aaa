package service

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// The service's own records are no source, no store and no keys of one, by whatever path.
func TestTheServicesOwnRecordsAreOutOfReach(t *testing.T) {
	root := t.TempDir()
	data := filepath.Join(root, "data")
	s, _ := open(t, data)
	defer s.Close()
	link, deep, hard := filepath.Join(root, "link"), filepath.Join(root, "deep"), filepath.Join(root, "hard.db")
	err := errors.Join(os.Symlink(filepath.Join(data, "catalog.db"), link), os.Symlink(data, deep),
		os.Link(filepath.Join(data, "catalog.db"), hard), os.WriteFile(filepath.Join(data, "other.db"), nil, 0o600))
	if err != nil {
		t.Fatal(err)
	}
	paths := []string{filepath.Join(data, "catalog.db"), data + "/../data/catalog.db", link,
		filepath.Join(deep, "catalog.db"), filepath.Join(deep, "other.db"), hard,
		"/proc/self/root" + filepath.Join(data, "catalog.db"), "/proc/self/cwd/../../../../../../../../../../" +
			filepath.Join(data, "catalog.db"), filepath.Join(data, "not-yet", "x.db")}
	for i, path := range paths {
		refused := func(what string, err error) {
			t.Helper()
			var r *refuse.Error
			if !errors.As(err, &r) || !strings.Contains(r.Message, "data directory") {
				t.Errorf("%s as %s: %v", path, what, err)
			}
		}
		_, err := s.Places.AddSource(t.Context(), "me", source.Config{Name: fmt.Sprint("s", i), Engine: "sqlite",
			Address: path})
		refused("a source", err)
		refused("a store", s.Places.AddStore(t.Context(), "me", catalog.Store{Name: fmt.Sprint("t", i), Path: path},
			false))
		refused("keys", s.Places.AddStore(t.Context(), "me",
			catalog.Store{Name: fmt.Sprint("k", i), Path: filepath.Join(root, fmt.Sprint("k", i)),
				Seal: catalog.JSON[store.Seal]{V: store.Seal{File: path}}}, false))
		refused("certificates", func() error {
			_, err := s.Places.AddSource(t.Context(), "me", source.Config{Name: fmt.Sprint("c", i), Engine: "postgres",
				Address: "postgres://u@127.0.0.1:1/x", TLSCA: path})
			return err
		}())
	}
	if entries, err := os.ReadDir(data); err != nil || len(entries) == 0 {
		t.Fatal(err)
	} else {
		for _, e := range entries {
			if e.Name() == "not-yet" {
				t.Error("a directory was made there")
			}
		}
	}

	// A source whose file becomes a link to them later is not opened.
	path := filepath.Join(root, "harbour.db")
	if err := os.WriteFile(path, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Places.AddSource(t.Context(), "me", source.Config{Name: "harbour", Engine: "sqlite",
		Address: path}); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(s.Close(), os.Remove(path), os.Symlink(filepath.Join(data, "catalog.db"),
		path)); err != nil {
		t.Fatal(err)
	}
	s, _ = open(t, data)
	var r *refuse.Error
	if _, err := s.Source(t.Context(), "harbour"); !errors.As(err, &r) {
		t.Errorf("a link that came later: %v", err)
	}
	os.Remove(path)
}

// Only what is meant for it is a secret that sources and stores may name.
func TestOnlySecretsAreSecrets(t *testing.T) {
	root := t.TempDir()
	s, _ := open(t, filepath.Join(root, "data"))
	defer s.Close()
	dir := filepath.Join(root, "secrets")
	err := errors.Join(os.Mkdir(dir, 0o700), os.WriteFile(filepath.Join(dir, "harbour"), []byte("x"), 0o600),
		os.WriteFile(filepath.Join(root, "other"), []byte("x"), 0o600), os.Symlink(filepath.Join(root, "other"),
			filepath.Join(dir, "link")))
	if err != nil {
		t.Fatal(err)
	}
	s.Places.Secrets = Secrets{Dir: dir, Prefix: "HARBOUR_"}
	for _, c := range []struct {
		config source.Config
		field  string
	}{
		{source.Config{PasswordEnv: "AWS_SECRET_ACCESS_KEY"}, "password_env"},
		{source.Config{PasswordEnv: "HARBOUR"}, "password_env"},
		{source.Config{PasswordFile: filepath.Join(root, "other")}, "password_file"},
		{source.Config{PasswordFile: filepath.Join(dir, "link")}, "password_file"},
		{source.Config{PasswordFile: dir + "/../other"}, "password_file"},
		{source.Config{PasswordFile: "/proc/self/environ"}, "password_file"},
		{source.Config{PasswordEnv: "HARBOUR_PASSWORD"}, "address"}, // it may be named; the server is not there
		{source.Config{PasswordFile: filepath.Join(dir, "harbour")}, "address"},
	} {
		c.config.Name, c.config.Engine, c.config.Address = "x", "postgres", "postgres://u@127.0.0.1:1/x"
		var r *refuse.Error
		if _, err := s.Places.AddSource(t.Context(), "me", c.config); !errors.As(err, &r) || r.Field != c.field {
			t.Errorf("%+v: %v, want a refusal of %s", c.config, err, c.field)
		}
	}
	var r *refuse.Error
	if err := s.Places.AddStore(t.Context(), "me", catalog.Store{Name: "x", Path: filepath.Join(root, "x"),
		Seal: catalog.JSON[store.Seal]{V: store.Seal{Env: "AWS_SECRET_ACCESS_KEY"}}}, false); !errors.As(err, &r) ||
		r.Field != "key_env" {
		t.Errorf("keys in another variable: %v", err)
	}
}
