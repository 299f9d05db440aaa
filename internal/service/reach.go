package service

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// Secrets says which secrets may be named through the interface: files of a directory, and environment variables with
// a prefix. Whoever may add a source could have any other handed to a server of their own.
type Secrets struct {
	Dir    string // empty: no file
	Prefix string // of the names of variables
}

// UsualSecrets hold where the start of the service says nothing else.
var UsualSecrets = Secrets{Dir: "/etc/ambercellar/secrets", Prefix: "AMBERCELLAR_SECRET_"}

// variable refuses a variable that is none of those.
func (x Secrets) variable(field, name string) error {
	if name == "" || x.Prefix != "" && strings.HasPrefix(name, x.Prefix) {
		return nil
	}
	return &refuse.Error{Field: field,
		Message: fmt.Sprintf("the environment variable %s is not for secrets: those begin with %s", name, x.Prefix),
		Remedy:  "give the secret such a name, or start the service with another -secret-prefix"}
}

// file refuses a file that does not lie in the directory, by whatever way.
func (x Secrets) file(field, path string) error {
	if path == "" {
		return nil
	}
	refused := func(why string) error {
		return &refuse.Error{Field: field, Message: fmt.Sprintf("the file %s %s", path, why), Remedy: "put it into " +
			x.Dir + ", or start the service with another -secrets directory"}
	}
	dir, err := filepath.EvalSymlinks(x.Dir)
	if x.Dir == "" || err != nil {
		return refused("cannot be a secret: there is no directory for secrets at " + x.Dir)
	}
	real, err := realPath(path)
	if err != nil {
		return refused("cannot be reached: " + err.Error())
	}
	if !within(real, dir) {
		return refused("does not lie in the directory for secrets, " + x.Dir)
	}
	return nil
}

// realPath follows all links of a path. What its end names need not be there yet.
func realPath(path string) (string, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return "", err
	}
	real, err := filepath.EvalSymlinks(path)
	for rest := ""; errors.Is(err, fs.ErrNotExist) && path != "/"; {
		if st, e := os.Lstat(path); e == nil && st.Mode()&fs.ModeSymlink != 0 { // to what is not there
			return "", fmt.Errorf("%s is a link to nowhere", path)
		}
		rest = filepath.Join(filepath.Base(path), rest)
		path = filepath.Dir(path)
		if real, err = filepath.EvalSymlinks(path); err == nil {
			return filepath.Join(real, rest), nil
		}
	}
	return real, err
}

// within says whether a path is a directory, or lies in it. Both have no links in them.
func within(path, dir string) bool {
	rel, err := filepath.Rel(dir, path)
	return err == nil && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator))
}

// notOurs refuses a path that leads into the data directory, by whatever name: the service's own records are nothing
// to be read or emptied through it.
func (s *Places) notOurs(field, path string) error {
	if path == "" {
		return nil
	}
	refused := &refuse.Error{Field: field, Message: fmt.Sprintf("%s lies in the service's own data directory", path),
		Remedy: "name a place outside of it"}
	dir, err := realPath(s.dir)
	if err != nil {
		return err
	}
	real, err := realPath(path)
	if err != nil {
		return &refuse.Error{Field: field, Message: fmt.Sprintf("%s cannot be reached: %v", path, err),
			Remedy: "mend the path"}
	}
	if within(real, dir) {
		return refused
	}
	st, err := os.Stat(real)
	if err != nil {
		return nil // it is not there, and nothing of ours
	}
	for place := real; ; place = filepath.Dir(place) { // a directory that is mounted at two places has two paths
		if up, err := os.Stat(place); err == nil && same(up, dir) {
			return refused
		}
		if place == filepath.Dir(place) {
			break
		}
	}
	own, err := filepath.Glob(filepath.Join(dir, "*")) // files can have two names
	if err != nil {
		return err
	}
	for _, file := range own {
		if same(st, file) {
			return refused
		}
	}
	return nil
}

func same(st fs.FileInfo, path string) bool {
	other, err := os.Stat(path)
	return err == nil && os.SameFile(st, other)
}

// reachable refuses a source that leads to the service's own records, or whose secret is none of those that may be
// named.
func (s *Places) reachable(c source.Config) error {
	if c.Engine == "sqlite" {
		if err := s.notOurs("address", c.Address); err != nil {
			return err
		}
	}
	if err := s.Secrets.variable("password_env", c.PasswordEnv); err != nil {
		return err
	}
	if err := s.Secrets.file("password_file", c.PasswordFile); err != nil {
		return err
	}
	return s.notOurs("tls_ca", c.TLSCA)
}

// sealable refuses keys of a store that lie where they must not.
func (s *Places) sealable(k store.Seal) error {
	if err := s.notOurs("key_file", k.File); err != nil {
		return err
	}
	return s.Secrets.variable("key_env", k.Env)
}

// read returns the secret that a variable or a file holds, without the end of its line; nil where neither is named.
func (x Secrets) read(variable, file string) ([]byte, error) {
	switch {
	case variable != "":
		if err := x.variable("secret_env", variable); err != nil {
			return nil, err
		}
		text, ok := os.LookupEnv(variable)
		if !ok || text == "" {
			return nil, fmt.Errorf("the environment variable %s is not set where the service runs", variable)
		}
		return []byte(text), nil
	case file != "":
		if err := x.file("secret_file", file); err != nil {
			return nil, err
		}
		text, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		text = bytes.TrimRight(text, "\r\n")
		if len(text) == 0 {
			return nil, fmt.Errorf("the file %s is empty", file)
		}
		return text, nil
	}
	return nil, nil
}
