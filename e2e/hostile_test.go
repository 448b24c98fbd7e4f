package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/client"
)

// TestAHostileRepositoryCostsItsOwnWards: bombs, endless trees, overlays and templates that never finish are said to be what they
// are, and all the others go on as if they were not there, in bounded memory.
func TestAHostileRepositoryCostsItsOwnWards(t *testing.T) {
	t.Parallel()
	s := newService(t)
	const good = 20
	files, wards := map[string]string{}, ""
	name := func(i int) string { return fmt.Sprintf("%s-%02d", s.name, i) }
	for i := range good {
		files[fmt.Sprintf("app/%02d/c.yaml", i)] = config("berths", "count", "0")
		wards += fmt.Sprintf("---\nvigila: ward/v1\nname: %[1]s\nfrom: {repo: %[2]s, path: app/%02[3]d}\ninto: {cluster: quay, namespace: %[1]s, create_namespace: true}\nkeep: {sync: auto, every: 1s}\nsettle: {within: 60s}\n", name(i), s.name, i)
	}
	s.push("First", files)

	bad := s.name + "-bad"
	dir := filepath.Join(labDir, "git", bad+".git")
	git(t, "", "init", "--quiet", "--bare", "--initial-branch=main", dir)
	out, err := exec.Command(filepath.Join(bin, "vigila-lab"), "hostile", dir).Output()
	require.NoError(t, err)
	var things []struct{ Path, Says string }
	require.NoError(t, json.Unmarshal(out, &things))
	s.ok("repo", "add", bad, gitBase+"/"+bad+".git")
	for _, x := range things {
		wards += fmt.Sprintf("---\nvigila: ward/v1\nname: bad-%[1]s\nfrom: {repo: %[2]s, path: %[1]s}\ninto: {cluster: quay, namespace: %[3]s-bad, create_namespace: true}\nkeep: {sync: ask, every: 1s}\n", x.Path, bad, s.name)
	}
	s.add(wards)

	inStep := func(subject string) {
		for i := range good {
			s.untilOf(name(i)+"@quay", "goes on: "+subject, func(w client.Ward) bool { return inStepAndReady(w) && w.Applied.Subject == subject })
		}
	}
	inStep("First")
	of := func(path string) client.Ward {
		r, err := s.api.GetWardWithResponse(context.Background(), "bad-"+path)
		require.NoError(t, s.api.Check(r, err))
		return r.JSON200.Ward
	}
	for round := 1; round <= 10; round++ { // while they are tried
		subject := fmt.Sprintf("Round %d", round)
		for i := range good {
			files[fmt.Sprintf("app/%02d/c.yaml", i)] = config("berths", "count", strconv.Itoa(round))
		}
		s.push(subject, files)
		inStep(subject)
	}
	for _, x := range things { // what can't end takes its time until it is ended, one after the other
		// On a busy machine the bound on time may come before another; and after each try that was ended the next comes later.
		said := func(w client.Ward) bool {
			return w.Standing == "blind" && (strings.Contains(w.Says, x.Says) || strings.Contains(w.Says, "and was ended"))
		}
		for end := time.Now().Add(10 * patience); x.Says != "" && !said(of(x.Path)); time.Sleep(100 * time.Millisecond) {
			require.True(t, time.Now().Before(end), "%s: it is %s and says: %s", x.Path, of(x.Path).Standing, of(x.Path).Says)
		}
	}
	for _, args := range [][]string{{"ward", "list", "-o", "json"}, {"logbook", "-o", "json"}, {"repo", "list", "-o", "json"}} {
		assert.Less(t, len(s.ok(args...)), 500_000, "a commit like a book is in no list: %v", args)
	}
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", s.cmd.Process.Pid))
	require.NoError(t, err)
	most, err := strconv.Atoi(regexp.MustCompile(`VmHWM:\s+(\d+) kB`).FindStringSubmatch(string(status))[1])
	require.NoError(t, err)
	t.Logf("the most memory that the service had: %d MiB", most>>10)
	assert.Less(t, most>>10, 400, "MiB")
}
