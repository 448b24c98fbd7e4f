package soak

import (
	"fmt"
	"net/http"
	"os"
	"regexp"
	"strconv"
	"strings"

	"vigila.dev/lab/hostile"
)

// maxService is the most memory that the service may ever have had, in MiB.
const maxService = 400

// besiege registers wards from a repository of hostile things. What is claimed of all others is checked as ever; these have to say
// what is wrong with them, and the service's memory is bounded.
func (s *soak) besiege() error {
	if !s.Hostile {
		return nil
	}
	if err := s.git.Create("wreckers"); err != nil {
		return err
	}
	var err error
	if s.things, err = hostile.Push(s.git.URL("wreckers"), 0); err != nil {
		return err
	}
	if err := s.call(http.MethodPost, "repos", map[string]string{"name": "wreckers", "url": s.git.URL("wreckers")}, nil); err != nil {
		return err
	}
	var files strings.Builder
	for _, x := range s.things {
		fmt.Fprintf(&files, "---\nvigila: ward/v1\nname: wreck-%[1]s\nfrom: {repo: wreckers, path: %[1]s}\ninto: {cluster: quay, namespace: wrecks, create_namespace: true}\nkeep: {sync: ask, every: 2s}\n", x.Path)
	}
	s.say("%d wards from a hostile repository", len(s.things))
	return s.call(http.MethodPost, "wards", map[string]string{"name": "wrecks.yaml", "file": files.String()}, nil)
}

// wrecks tells what a hostile ward does not say of itself, or how much memory its reading took; "" when all is well.
func (s *soak) wrecks(claims map[string]claim) string {
	s.service.Lock()
	pid := 0
	if !s.service.up.IsZero() {
		pid = s.service.cmd.Process.Pid
	}
	s.service.Unlock()
	if status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid)); err == nil { // elsewhere than on Linux it is not known
		if m := regexp.MustCompile(`VmHWM:\s+(\d+) kB`).FindSubmatch(status); m != nil {
			n, _ := strconv.Atoi(string(m[1])) // digits
			if s.most = max(s.most, n>>10); s.most > maxService {
				return fmt.Sprintf("the service took %d MiB of memory; the most is %d", s.most, maxService)
			}
		}
	}
	for _, x := range s.things {
		if c := claims["wreck-"+x.Path]; x.Says != "" && (c.Standing != "blind" || !strings.Contains(c.Says, x.Says)) {
			return fmt.Sprintf("wreck-%s says %s: %q, without the words %q", x.Path, c.Standing, c.Says, x.Says)
		}
	}
	return ""
}
