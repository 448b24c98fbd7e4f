package follow

import (
	"fmt"
	"math/big"
	"slices"
	"strings"
	"time"

	"github.com/Masterminds/semver/v3"
)

// Facts is what a registry tells of one tag.
type Facts struct {
	Digest    string
	Platforms []string  // os/arch
	Created   time.Time // as its builder says; zero when it does not
}

// Seen is when a tag was first seen; Standing tells that it was there at the first look of all.
type Seen struct {
	At       time.Time
	Standing bool
	Created  time.Time `json:",omitzero"` // of one that was there: when it was made, as far as that was asked for; At where nobody knows
}

// maxTimed is how many tags are ordered by time at most: of each that was there at the first look the registry is asked once.
const maxTimed = 200

// byTime orders tags by since when they are there, the newest first. ask is the first of which more has to be known; "" when all is.
func byTime(tags []string, seen map[string]Seen) (out []string, ask string) {
	since := func(tag string) time.Time {
		if s := seen[tag]; s.Standing {
			return s.Created
		}
		return seen[tag].At
	}
	for _, t := range tags {
		if since(t).IsZero() {
			return nil, t
		}
	}
	out = slices.Clone(tags)
	slices.SortStableFunc(out, func(a, b string) int { return since(b).Compare(since(a)) })
	return out, ""
}

// Sorted lists the tags that are taken, the newest first. beyond is the newest version that is out of the range; "" when there is
// none, or an expression says which are taken.
func (r Rule) Sorted(tags []string) (fits []string, beyond string) {
	if r.Match != nil {
		return r.matching(tags), ""
	}
	c, err := semver.NewConstraint(r.Range)
	if err != nil {
		return nil, "" // Parse has refused it
	}
	type version struct {
		tag string
		v   *semver.Version
	}
	var in []version
	var out *version
	for _, t := range tags {
		v, err := semver.NewVersion(strings.ReplaceAll(t, "_", "+")) // a tag can't hold a plus
		switch {
		case err != nil:
		case c.Check(v):
			in = append(in, version{t, v})
		case v.Prerelease() == "" && (out == nil || v.GreaterThan(out.v)):
			out = &version{t, v}
		}
	}
	slices.SortStableFunc(in, func(a, b version) int {
		if n := b.v.Compare(a.v); n != 0 {
			return n
		}
		return len(b.tag) - len(a.tag) // 2.8.1 before 2.8: the more exact one
	})
	for _, x := range in {
		fits = append(fits, x.tag)
	}
	if out != nil && (len(in) == 0 || out.v.GreaterThan(in[0].v)) {
		beyond = out.tag
	}
	return fits, beyond
}

func (r Rule) matching(tags []string) (fits []string) {
	number := map[string]*big.Int{}
	for _, t := range tags {
		m := r.Match.FindStringSubmatch(t)
		if m == nil {
			continue
		}
		if r.Order == ByNumber {
			n, ok := new(big.Int).SetString(m[1], 10)
			if !ok {
				continue
			}
			number[t] = n
		}
		fits = append(fits, t)
	}
	slices.SortStableFunc(fits, func(a, b string) int {
		if r.Order == ByNumber {
			if n := number[b].Cmp(number[a]); n != 0 {
				return n
			}
		}
		return strings.Compare(b, a)
	})
	return fits
}

// Refuses tells why a tag that fits is not taken; "" when it may be. wait is when it may be, where that is a matter of time.
func (r Rule) Refuses(f Facts, s Seen, now time.Time) (why string, wait time.Time) {
	for _, p := range r.Platforms {
		if !slices.ContainsFunc(f.Platforms, func(have string) bool { return have == p || strings.HasPrefix(have, p+"/") }) {
			has := "it says none"
			if len(f.Platforms) > 0 {
				has = "it has " + strings.Join(f.Platforms, ", ")
			}
			return fmt.Sprintf("it is not there for %s; %s", p, has), wait
		}
	}
	// Who builds an image may write what it likes into it: of what came since, only what was seen counts.
	since := s.At
	if s.Standing && !f.Created.IsZero() && f.Created.Before(since) {
		since = f.Created
	}
	if at := since.Add(r.AtLeastOld); now.Before(at) {
		return fmt.Sprintf("it is taken once it is %s old, at %s UTC", span(r.AtLeastOld), at.UTC().Format("Jan 2 15:04")), at
	}
	return "", wait
}

// span writes a time as people do.
func span(d time.Duration) string {
	switch {
	case d%time.Hour == 0:
		return fmt.Sprintf("%d h", d/time.Hour)
	case d%time.Minute == 0:
		return fmt.Sprintf("%d min", d/time.Minute)
	}
	return fmt.Sprintf("%d s", d/time.Second)
}
