package e2e

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// block is one console of a page: commands, each with what the page says it prints.
type block struct {
	line int // of its first command, 1-based
	runs []played
}

type played struct {
	line    int
	command string
	want    []string
}

// consoles reads the consoles of a page. A command begins with "$ ", and goes on in lines that begin with "> ".
func consoles(text string) (out []block) {
	in := false
	for i, row := range strings.Split(text, "\n") {
		switch {
		case row == "```console":
			in = true
			out = append(out, block{line: i + 2})
		case row == "```":
			in = false
		case !in:
		case strings.HasPrefix(row, "$ "):
			b := &out[len(out)-1]
			b.runs = append(b.runs, played{line: i + 1, command: row[2:]})
		case strings.HasPrefix(row, "> "):
			b := &out[len(out)-1]
			b.runs[len(b.runs)-1].command += "\n" + row[2:]
		default:
			b := &out[len(out)-1]
			b.runs[len(b.runs)-1].want = append(b.runs[len(b.runs)-1].want, row)
		}
	}
	return out
}

// alike takes out of a line what differs from machine to machine and from minute to minute.
var alike = []struct {
	of *regexp.Regexp
	to string
}{
	{regexp.MustCompile(`http://127\.0\.0\.1:\d+`), "ADDRESS"},
	{regexp.MustCompile(`\d{4}-\d\d-\d\d \d\d:\d\d(:\d\d)?( \w+)?`), "DAY"},
	{regexp.MustCompile(`\b\d\d:\d\d:\d\d\b( UTC)?`), "TIME"},
	{regexp.MustCompile(`\b[0-9a-f]{7,40}\b`), "HASH"},
	{regexp.MustCompile(`\b\d+ (s|min|h|d)\b`), "SPAN"},
	{regexp.MustCompile(`restarted \d+ times`), "restarted"},
	{regexp.MustCompile(`value [0-9.]+;`), "VALUE"},                          // of a check
	{regexp.MustCompile(`Sync #\d+: \d+ of \d+ done; waits for .*`), "SYNC"}, // how far it is depends on the machine
	{regexp.MustCompile(` {2,}`), "  "},
}

func plainly(row string) string {
	for _, a := range alike {
		row = a.of.ReplaceAllString(row, a.to)
	}
	return strings.TrimSpace(row)
}

// fits tells whether lines are as a page has them; … stands for any number of them.
func fits(want, got []string) bool {
	if len(got) > 0 && strings.TrimSpace(got[0]) == "…" && (len(want) == 0 || strings.TrimSpace(want[0]) != "…") {
		return fits(want, got[1:])
	}
	if len(want) == 0 {
		return len(got) == 0
	}
	if strings.TrimSpace(want[0]) == "…" {
		for i := range len(got) + 1 {
			if fits(want[1:], got[i:]) {
				return true
			}
		}
		return false
	}
	return len(got) > 0 && plainly(want[0]) == plainly(got[0]) && fits(want[1:], got[1:])
}

// goingOn writes … for the lines of a run that tell how far it is: how many there are depends on the machine.
func goingOn(lines []string) (out []string) {
	for _, l := range lines {
		if !strings.HasPrefix(l, "  ◐ ") {
			out = append(out, l)
		} else if len(out) == 0 || out[len(out)-1] != "  …" {
			out = append(out, "  …")
		}
	}
	return out
}

// shell is a bash that stays where it is from command to command.
type shell struct {
	t   *testing.T
	in  *os.File
	out *bufio.Reader
}

func newShell(t *testing.T, dir string, env ...string) *shell {
	t.Helper()
	cmd := exec.Command("bash", "--norc")
	cmd.Dir, cmd.Env = dir, append(os.Environ(), env...)
	in, w, err := os.Pipe()
	require.NoError(t, err)
	r, out, err := os.Pipe()
	require.NoError(t, err)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = in, out, out
	require.NoError(t, cmd.Start())
	require.NoError(t, in.Close())
	require.NoError(t, out.Close())
	t.Cleanup(func() {
		_ = w.Close()
		_ = cmd.Wait()
		_ = r.Close()
	})
	return &shell{t, w, bufio.NewReader(r)}
}

// run runs one command, and gives back its lines and its exit code.
func (s *shell) run(command string) (lines []string, code string) {
	s.t.Helper()
	const end = "\x1eended "
	_, err := fmt.Fprintf(s.in, "%s\nprintf '\\036ended %%s\\n' $?\n", command)
	require.NoError(s.t, err)
	for {
		row, err := s.out.ReadString('\n')
		require.NoError(s.t, err, "%s: %q", command, lines)
		row = strings.TrimSuffix(row, "\n")
		if before, code, ended := strings.Cut(row, end); ended {
			if before != "" {
				lines = append(lines, before)
			}
			for len(lines) > 0 && strings.TrimSpace(lines[len(lines)-1]) == "" {
				lines = lines[:len(lines)-1]
			}
			return lines, code
		}
		lines = append(lines, row)
	}
}

// TestTheFirstWeek plays docs/first-week.md on the demo: its commands are run from the page itself. With VIGILA_WRITE_PAGES set the page
// is written anew, as it was printed.
func TestTheFirstWeek(t *testing.T) {
	t.Parallel()
	root, err := filepath.Abs("..")
	require.NoError(t, err)
	dir := t.TempDir()
	ctx, cancel := context.WithTimeout(context.Background(), 9*time.Minute)
	defer cancel()
	demo := exec.CommandContext(ctx, filepath.Join(root, "scripts", "demo"))
	demo.Env = append(os.Environ(), "VIGILA_DEMO="+dir)
	said, err := os.Create(filepath.Join(dir, "said"))
	require.NoError(t, err)
	defer said.Close()
	demo.Stdout, demo.Stderr = said, said
	demo.Cancel = func() error { return demo.Process.Signal(syscall.SIGINT) }
	demo.WaitDelay = 20 * time.Second
	require.NoError(t, demo.Start())
	defer func() {
		cancel()
		_ = demo.Wait()
	}()
	tells := func() string {
		b, err := os.ReadFile(said.Name())
		require.NoError(t, err)
		return string(b)
	}
	if !assert.Eventually(t, func() bool { return strings.Contains(tells(), "The demo is up") }, 6*time.Minute, 200*time.Millisecond) {
		t.Fatal(tells())
	}

	page := filepath.Join(root, "docs", "first-week.md")
	text, err := os.ReadFile(page)
	require.NoError(t, err)
	write := os.Getenv("VIGILA_WRITE_PAGES") != ""
	rows := strings.Split(string(text), "\n")
	var fresh []string // the page as it was played
	at := 0
	sh := newShell(t, t.TempDir(), "VIGILA_CONTEXTS="+filepath.Join(t.TempDir(), "none"), "NO_COLOR=1", "GIT_TERMINAL_PROMPT=0")
	for _, b := range consoles(string(text)) {
		for _, p := range b.runs {
			if p.command == "source .demo/env" {
				p.command = "source " + filepath.Join(dir, "env")
			}
			got, code := sh.run(p.command)
			got = goingOn(got)
			if code != "0" {
				got = append(got, fmt.Sprintf("(exit code %s)", code))
			}
			last := p.line + strings.Count(p.command, "\n")
			fresh = append(fresh, rows[at:last]...)
			fresh = append(fresh, got...)
			at = last + len(p.want)
			for len(p.want) > 0 && p.want[len(p.want)-1] == "" {
				p.want = p.want[:len(p.want)-1]
			}
			if !write {
				assert.True(t, fits(p.want, got), "docs/first-week.md:%d: $ %s\nThe page says:\n%s\nIt was:\n%s", p.line, p.command, strings.Join(p.want, "\n"), strings.Join(got, "\n"))
			}
		}
	}
	if write {
		require.NoError(t, os.WriteFile(page, []byte(strings.Join(append(fresh, rows[at:]...), "\n")), 0o644))
	}
}
