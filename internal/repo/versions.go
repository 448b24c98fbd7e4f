package repo

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/Masterminds/semver/v3"
)

// IsRange tells whether a ref is a version range over tags, such as ">=1.4 <2", "~1.4" or "1.x".
func IsRange(ref string) bool {
	if strings.ContainsAny(ref, "<>=^~*, ") && !strings.ContainsAny(ref, ":\\[?") {
		_, err := semver.NewConstraint(ref)
		return err == nil
	}
	return false
}

// newest finds the tag with the highest version in a range. Tags that are no versions are passed over; versions such
// as 1.4.0-rc.1 count only when the range names one.
func (m *Mirror) newest(ctx context.Context, want string) (string, error) {
	c, err := semver.NewConstraint(want)
	if err != nil {
		return "", fmt.Errorf("%q is not a range of versions: %w", want, err)
	}
	out, err := m.git(ctx, "for-each-ref", "--format=%(refname:strip=2)", "refs/tags")
	if err != nil {
		return "", err
	}
	best, tag := (*semver.Version)(nil), ""
	var versions []*semver.Version
	for _, name := range strings.Fields(string(out)) {
		v, err := semver.NewVersion(name[strings.LastIndex(name, "/")+1:])
		if err != nil {
			continue
		}
		versions = append(versions, v)
		if c.Check(v) && (best == nil || v.GreaterThan(best)) {
			best, tag = v, name
		}
	}
	if tag != "" {
		return tag, nil
	}
	slices.SortFunc(versions, func(a, b *semver.Version) int { return b.Compare(a) })
	if len(versions) == 0 {
		return "", &noRefError{fmt.Sprintf("%s has no version in the range %q: none of its tags is a version", m.Name(), want)}
	}
	var names []string
	for _, v := range versions {
		names = append(names, v.Original())
	}
	return "", &noRefError{fmt.Sprintf("%s has no version in the range %q; its versions are: %s", m.Name(), want, few(names))}
}

// mainBranch says which branch is the main one, when that can be told.
func (m *Mirror) mainBranch(ctx context.Context, branches []string) string {
	m.mu.Lock()
	f, err := m.ask(ctx)
	m.mu.Unlock()
	if err != nil || f.Default == "" || !slices.Contains(branches, f.Default) || len(branches) == 1 {
		return ""
	}
	return "; its main one is " + f.Default
}
