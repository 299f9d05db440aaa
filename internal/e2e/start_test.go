package e2e

import (
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"ambercellar/internal/dbtest"
)

// The pages that lead from a table to the first restore are right as they stand: every command of them is run, in
// order, in one shell. Only where the database and the service listen differs, and what waits for the service waits
// until it answers.
func TestTheFirstStepsAreAsPrinted(t *testing.T) {
	for page, start := range map[string]func(t *testing.T) (listens string, env []string){
		"sqlite": func(*testing.T) (string, []string) { return "", nil },
		"postgresql": func(t *testing.T) (string, []string) {
			s, err := dbtest.Start()
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(s.Stop)
			if err := s.Exec("postgres", "CREATE DATABASE harbour"); err != nil {
				t.Fatal(err)
			}
			return fmt.Sprintf("127.0.0.1:%d", s.Port), []string{"PGHOST=127.0.0.1", fmt.Sprintf("PGPORT=%d", s.Port),
				"PGUSER=postgres"}
		},
		"mariadb": func(t *testing.T) (string, []string) {
			s, err := dbtest.StartMariaDB()
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(s.Stop)
			if err := dbtest.ExecMariaDB(s.URL("mysql"), "CREATE DATABASE harbour"); err != nil {
				t.Fatal(err)
			}
			return fmt.Sprintf("127.0.0.1:%d", s.Port), []string{"MYSQL_HOST=127.0.0.1",
				fmt.Sprintf("MYSQL_TCP_PORT=%d", s.Port), "USER=root"}
		},
	} {
		t.Run(page, func(t *testing.T) {
			t.Parallel()
			listens, env := start(t)
			out := follow(t, page, listens, env)
			for _, want := range []string{"nothing was changed; `ambercellar run start", "balanced",
				"9 found in 1 segment = 9 restored + 0 skipped", "counts and digest hold"} {
				if !strings.Contains(out, want) {
					t.Errorf("nothing printed %q:\n%s", want, out)
				}
			}
		})
	}
}

// follow runs the commands of a page and returns what they printed.
func follow(t *testing.T, page, listens string, env []string) string {
	t.Helper()
	text, err := os.ReadFile("../../docs/start/" + page + ".md")
	if err != nil {
		t.Fatal(err)
	}
	var commands strings.Builder
	blocks := strings.Split(string(text), "```sh\n")[1:]
	for _, b := range blocks {
		code, _, ended := strings.Cut(b, "\n```")
		if !ended {
			t.Fatal("a block does not end")
		}
		commands.WriteString(code + "\n")
	}
	if len(blocks) < 8 || strings.Contains(string(text), "```bash") {
		t.Fatalf("%d blocks were found", len(blocks))
	}
	port := free(t)
	script := fmt.Sprintf(`set -e
ambercellar() {
	if [ "$1" = serve ]; then exec %s "$@" -listen 127.0.0.1:%s; else %[1]s "$@"; fi
}
sleep() {
	for i in $(seq 600); do
		if [ -s ambercellar-data/administrator-token ] && (exec 3<>/dev/tcp/127.0.0.1/%[2]s) 2>/dev/null; then
			return
		fi
		command sleep 0.1
	done
	return 1
}
trap 'kill %%1' EXIT
`, program, port) + commands.String()
	if listens != "" {
		script = strings.NewReplacer("127.0.0.1:5432", listens, "127.0.0.1:3306", listens).Replace(script)
	}
	shell := exec.Command("bash", "-c", script)
	shell.Dir = t.TempDir()
	shell.Env = append(os.Environ(), append(env, "AMBERCELLAR_SERVER="+(&url.URL{Scheme: "http",
		Host: "127.0.0.1:" + port}).String(), "HOME="+filepath.Join(shell.Dir, "home"))...)
	out, err := shell.CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return string(out)
}

// free is a port of this machine that nobody listens at.
func free(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	_, port, _ := net.SplitHostPort(l.Addr().String())
	return port
}
