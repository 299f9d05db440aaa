package settings

import (
	"errors"
	"strings"
	"testing"
)

func some() []Setting {
	even := func(s string) error {
		if len(s)%2 == 1 {
			return errors.New("it is odd")
		}
		return nil
	}
	return []Setting{
		{Name: "listen", Usual: "127.0.0.1:7420"},
		{Name: "mail-from", Check: even},
		{Name: "hosts", List: true},
		{Name: "new-token", Truth: true, Usual: "false"},
		{Name: "level", Usual: "info", Changes: true},
	}
}

func TestFlagsComeBeforeVariablesAndThoseBeforeTheFile(t *testing.T) {
	got, problems := Read(some(), Given{File: "cellar.yaml",
		Text: []byte("# how it runs\nlisten: 10.0.0.1:1\nhosts: [quay, pier]\nlevel: debug\nmail-from: \"12\"\n"),
		Environ: []string{"AMBERCELLAR_LISTEN=10.0.0.2:2", "AMBERCELLAR_LEVEL=warn", "HOME=/", "AMBERCELLAR_SECRET_X=1",
			"AMBERCELLAR_TOKEN=t", "AMBERCELLAR_NEW_TOKEN=1"},
		Flags: map[string]string{"level": "error", "config": "x"}})
	for name, want := range map[string][2]string{"listen": {"10.0.0.2:2", "AMBERCELLAR_LISTEN"},
		"hosts": {"quay,pier", "cellar.yaml:3"}, "level": {"error", "-level"}, "mail-from": {"12", "cellar.yaml:5"},
		"new-token": {"true", "AMBERCELLAR_NEW_TOKEN"}} {
		if v := got[name]; v.Text != want[0] || v.From != want[1] {
			t.Errorf("%s is %q from %q, not %v", name, v.Text, v.From, want)
		}
	}
	if list := got.List("hosts"); len(list) != 2 || list[1] != "pier" || !got.Truth("new-token") {
		t.Errorf("hosts %q, new-token %v", list, got.Truth("new-token"))
	}
	if len(problems) != 1 || !problems[0].Warning || !strings.Contains(problems[0].Message, "the flag holds") {
		t.Errorf("of a flag and a variable that contradict each other it says %v", problems)
	}
	got, problems = Read(some(), Given{})
	if v := got["listen"]; v.Text != "127.0.0.1:7420" || v.From != Usual || len(problems) > 0 {
		t.Errorf("with nothing given: %+v, %v", v, problems)
	}
}

func TestAllFaultsAreToldAtOnceWithTheirPlaces(t *testing.T) {
	_, problems := Read(some(), Given{File: "cellar.yaml", Text: []byte(`lisen: x
listen: [a, b]
hosts:
  - a
  - {b: c}
mail-from: odd
new-token: perhaps
level:
  deep: er
listen: again
`), Environ: []string{"AMBERCELLAR_HOST=quay", "AMBERCELLAR_MAIL_FROM=x", "AMBERCELLAR_NEW_TOKEN="},
		Flags: map[string]string{"mail-from": "abc"}})
	var all strings.Builder
	for _, p := range problems {
		all.WriteString(p.Error() + "\n")
	}
	for _, want := range []string{`cellar.yaml:1:1: "lisen" is no setting; did you mean listen?`,
		"cellar.yaml:2:1: field listen: a list stands where one value is wanted",
		"cellar.yaml:3:1: field hosts: a value is wanted, not keys and values",
		"cellar.yaml:6:1: field mail-from: it is odd",
		`cellar.yaml:7:1: field new-token: "perhaps" is neither true nor false`,
		"cellar.yaml:8:1: field level: a value is wanted",
		"cellar.yaml:10:1: field listen: it is set in line 2 already",
		"warning: the environment variable AMBERCELLAR_HOST is no setting, and is passed over; did you mean " +
			"AMBERCELLAR_HOSTS?",
		"field mail-from: (AMBERCELLAR_MAIL_FROM) it is odd",
		"field new-token: (AMBERCELLAR_NEW_TOKEN) \"\" is neither",
		"field mail-from: (-mail-from) it is odd"} {
		if !strings.Contains(all.String(), want) {
			t.Errorf("it does not say %q:\n%s", want, all.String())
		}
	}
	for _, text := range []string{"a: [", "- a\n- b\n", "just text", "a: 1\n b: 2", "? [x]\n: y"} {
		if _, problems := Read(some(), Given{File: "f", Text: []byte(text)}); len(problems) == 0 ||
			problems[0].File != "f" {
			t.Errorf("%q: %v", text, problems)
		}
	}
	for _, text := range []string{"", "---\n", "# nothing\n", "listen:\n"} {
		if _, problems := Read(some(), Given{File: "f", Text: []byte(text)}); len(problems) > 0 {
			t.Errorf("%q: %v", text, problems)
		}
	}
}

// FuzzFiles: whatever a file holds, it is read or refused.
func FuzzFiles(f *testing.F) {
	for _, s := range []string{"listen: x\n", "hosts: [a, b]\n", "a: &x 1\nb: *x\n", "? a\n: b\n",
		"!!str a: b", "listen: |\n  x\n"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		got, problems := Read(some(), Given{File: "f", Text: []byte(text)})
		for name, v := range got {
			if v.From != Usual && v.From == "" {
				t.Errorf("%s is from nowhere", name)
			}
		}
		for _, p := range problems {
			if p.Message == "" {
				t.Errorf("a problem without a word: %+v", p)
			}
		}
	})
}
