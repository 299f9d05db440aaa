package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/cpuguy83/go-md2man/v2/md2man"

	"ambercellar/internal/local"
)

// TestEveryCommandAndFlagIsInTheManual: and what man makes of the pages is readable.
func TestEveryCommandAndFlagIsInTheManual(t *testing.T) {
	all := local.Program().Commands()
	made := pages(all, "1.0")
	whole := ""
	for name, text := range made {
		if page := string(md2man.Render([]byte(text))); !strings.Contains(page, ".SH NAME") {
			t.Errorf("%s is no manual page:\n%s", name, page)
		}
		whole += text
	}
	for _, c := range all {
		if !strings.Contains(whole, "**ambercellar "+c.Name+"**") {
			t.Errorf("%s is in no page", c.Name)
		}
	}
	for _, part := range []string{"**-scrape-token-file**", "AMBERCELLAR_SERVER", "**-over**"} {
		if !strings.Contains(whole, part) {
			t.Errorf("%s is in no page", part)
		}
	}
	if _, err := exec.LookPath("man"); err != nil {
		t.Skip("there is no man here")
	}
	file := filepath.Join(t.TempDir(), "ambercellar-run.1")
	if err := os.WriteFile(file, md2man.Render([]byte(made["ambercellar-run"])), 0o644); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command("man", "--warnings", "-l", file).CombinedOutput()
	if err != nil || !strings.Contains(string(out), "ambercellar run start") ||
		strings.Contains(string(out), "warning:") {
		t.Errorf("%v\n%s", err, out)
	}
}
