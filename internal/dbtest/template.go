package dbtest

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
)

// templates is the environment variable that names a directory in which the processes of one test run keep the files
// of servers that have never run: initialising a server takes seconds, and copying its files hardly any time. Whoever
// runs the tests makes the directory and removes it afterwards. Without it each server is initialised anew.
const templates = "AMBERCELLAR_TEMPLATES"

// initialise has a server's data directory made by a command, whose last argument it adds, or copied from that of
// another server that was made by the same command.
func initialise(data, name, option string, command func(args ...string) *exec.Cmd) error {
	root := os.Getenv(templates)
	if root == "" {
		return run(command(option + data))
	}
	lock, err := os.OpenFile(filepath.Join(root, name+".lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	defer lock.Close() // which unlocks it
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil {
		return err
	}
	template := filepath.Join(root, name)
	if _, err := os.Stat(template); os.IsNotExist(err) {
		if err := run(command(option + data)); err != nil {
			return err
		}
		if err := copyTree(data, template+".new"); err != nil {
			return err
		}
		return os.Rename(template+".new", template)
	}
	return copyTree(template, data)
}

// copyTree copies a directory with its owners and rights.
func copyTree(from, to string) error { return run(exec.Command("cp", "-a", from, to)) }

func run(command *exec.Cmd) error {
	if out, err := command.CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w\n%s", filepath.Base(command.Path), err, out)
	}
	return nil
}
