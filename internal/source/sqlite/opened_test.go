package sqlite

import (
	"bufio"
	"database/sql"
	"fmt"
	"io"
	"os"
	"os/exec"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// opens names, in the environment of a process of this test, the file that it opens, until its input ends.
const opens = "AMBERCELLAR_TEST_OPENS"

func TestMain(m *testing.M) {
	path := os.Getenv(opens)
	if path == "" {
		os.Exit(m.Run())
	}
	db, err := sql.Open("sqlite", path)
	if err == nil {
		err = db.QueryRow("SELECT count(*) FROM sqlite_schema").Scan(new(int))
	}
	fmt.Println("opened:", err)
	io.Copy(io.Discard, os.Stdin)
	db.Close()
}

// TestItKnowsWhetherAnotherProcessHasTheFileOpen: one that has is seen for as long, whether it does anything or not.
func TestItKnowsWhetherAnotherProcessHasTheFileOpen(t *testing.T) {
	for _, mode := range []string{"wal", "delete"} {
		opened, _ := open(mode)(t)
		s := opened.(*Source)
		alone := func() bool {
			t.Helper()
			seen, err := s.Others(t.Context(), 200*time.Millisecond)
			if err != nil {
				t.Fatal(err)
			}
			return seen.Alone
		}
		told := mode == "wal" && listsLocks(t)
		if alone() != told {
			t.Errorf("%s: with nobody else it says %t", mode, !told)
		}
		other := exec.Command(os.Args[0])
		other.Env = append(os.Environ(), opens+"="+s.path)
		in, _ := other.StdinPipe()
		out, _ := other.StdoutPipe()
		if err := other.Start(); err != nil {
			t.Fatal(err)
		}
		if line, err := bufio.NewReader(out).ReadString('\n'); line != "opened: <nil>\n" {
			t.Fatalf("%q, %v", line, err)
		}
		if alone() {
			t.Errorf("%s: it does not see the other process", mode)
		}
		in.Close()
		if err := other.Wait(); err != nil {
			t.Fatal(err)
		}
		if alone() != told {
			t.Errorf("%s: after the other has gone it says %t", mode, !told)
		}
	}
}

// listsLocks says whether this system lists a lock of ours under the number of its file.
func listsLocks(t *testing.T) bool {
	f, err := os.Create(t.TempDir() + "/lock")
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if err := unix.FcntlFlock(f.Fd(), unix.F_SETLK, &unix.Flock_t{Type: unix.F_WRLCK, Len: 1}); err != nil {
		t.Fatal(err)
	}
	var st unix.Stat_t
	if err := unix.Fstat(int(f.Fd()), &st); err != nil {
		t.Fatal(err)
	}
	list, _ := os.ReadFile("/proc/locks")
	ours, _ := lockers(list, number(&st), os.Getpid())
	return ours
}

func TestWhoHasLockedAFile(t *testing.T) {
	const other = "1: FLOCK  ADVISORY  WRITE 31041 fe:00:77 0 EOF\n3: POSIX  ADVISORY  READ 9 fe:00:78 128 128\n"
	for list, want := range map[string][2]bool{
		"":    {false, false},
		other: {false, false},
		other + "2: POSIX  ADVISORY  READ 42 fe:00:7 128 128\n":                                    {true, false},
		other + "2: POSIX  ADVISORY  READ 42 fe:01:7 128 128\n":                                    {false, false},
		"2: POSIX  ADVISORY  READ 42 fe:00:7 128 128\n4: POSIX  ADVISORY  READ 43 fe:00:7 128 128": {true, true},
		"2: POSIX  ADVISORY  READ 4242 fe:00:7 128 128\n":                                          {false, true},
		"2: OFDLCK ADVISORY  READ -1 fe:00:7 0 EOF\n":                                              {false, true},
		"2: POSIX  ADVISORY  READ 42 fe:00:7 0 1\n2: -> POSIX ADVISORY WRITE 43 fe:00:7 0 1\n":     {true, true},
		"fe:00:7\n fe:00:7 fe:00:7\n\x00\n":                                                        {false, true},
	} {
		if ours, others := lockers([]byte(list), "fe:00:7", 42); [2]bool{ours, others} != want {
			t.Errorf("%q: %t, %t", list, ours, others)
		}
	}
}
