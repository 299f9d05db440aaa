// Package duck reads Parquet files in tests by an engine that knows nothing of this module.
package duck

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// ask runs the queries that it reads from standard input, and writes the rows of each.
const ask = `import { DuckDBInstance } from "@duckdb/node-api";
import { readFileSync } from "node:fs";
const c = await (await DuckDBInstance.create(":memory:")).connect();
const out = [];
for (const q of JSON.parse(readFileSync(0, "utf8"))) out.push((await c.runAndReadAll(q)).getRowObjectsJson());
console.log(JSON.stringify(out));
`

// Engine is an installed engine.
type Engine struct{ script string }

// Install installs the engine for a test. It takes some seconds and needs the npm registry.
func Install(t testing.TB) *Engine {
	t.Helper()
	dir := t.TempDir()
	install := exec.Command("npm", "install", "--no-audit", "--no-fund", "--loglevel=error",
		"@duckdb/node-api@1.5.6-r.1")
	install.Dir = dir
	if out, err := install.CombinedOutput(); err != nil {
		t.Fatalf("npm install: %v\n%s", err, out)
	}
	e := &Engine{filepath.Join(dir, "ask.mjs")}
	if err := os.WriteFile(e.script, []byte(ask), 0o644); err != nil {
		t.Fatal(err)
	}
	return e
}

// Ask runs queries in a directory and returns the rows of each.
func (e *Engine) Ask(t testing.TB, dir string, queries ...string) [][]map[string]any {
	t.Helper()
	asked, err := json.Marshal(queries)
	if err != nil {
		t.Fatal(err)
	}
	node := exec.Command("node", e.script)
	node.Dir, node.Stdin = dir, strings.NewReader(string(asked))
	text, err := node.Output()
	if err != nil {
		if exit, ok := err.(*exec.ExitError); ok {
			t.Fatalf("%v\n%s", err, exit.Stderr)
		}
		t.Fatal(err)
	}
	var rows [][]map[string]any
	if err := json.Unmarshal(text, &rows); err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	return rows
}
