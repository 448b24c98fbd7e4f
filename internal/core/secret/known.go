package secret

import (
	"maps"
	"slices"
	"strings"
)

// Known is what is known of a place: never a value.
type Known struct {
	Looked  bool              // the store has answered since the service started
	Version string            // of the values, where the store tells one
	Keys    map[string]string // to keyed digests of the values
	Problem string            // why it can't be read now; what was known stays
	Refused string            // why the ward may not use it; nothing is asked then
	SetBy   string            // how a value is set, where no command does
}

// Standing is how what an object refers to stands.
type Standing struct {
	Digest  string // of all values; "" when some are not known, missing or refused
	Missing []Ref  // the store has answered, and has no such value
	Unknown string // why some are not known
	Refused string // why some may not be used
	SetBy   string // how the missing ones are set, where no command does
	Unread  string // why values can't be read now, whether or not it is known which they were
}

// Good tells that every reference has a value.
func (s Standing) Good() bool { return s.Refused == "" && s.Unknown == "" && len(s.Missing) == 0 }

// Stand tells how references stand. known tells of a place; mask makes keyed digests.
func Stand(refs []Ref, known func(Place) Known, mask func(string) string) (out Standing) {
	if len(refs) == 0 {
		return out
	}
	var digests strings.Builder
	for _, r := range refs {
		k := known(r.Place())
		if k.Problem != "" && k.Refused == "" {
			out.Unread = k.Problem
		}
		switch digest, has := k.Keys[r.Key]; {
		case k.Refused != "":
			out.Refused = k.Refused
		case !k.Looked:
			out.Unknown = orElse(k.Problem, "store "+r.Store+" has not been looked at yet")
		case r.Key == "" && len(k.Keys) > 0:
			for _, key := range slices.Sorted(maps.Keys(k.Keys)) {
				note(&digests, r.Place().Of(key), k.Keys[key])
			}
		case has:
			note(&digests, r, digest)
		case k.Problem != "": // it may have come since
			out.Unknown = k.Problem
		default:
			out.Missing, out.SetBy = append(out.Missing, r), orElse(out.SetBy, k.SetBy)
		}
	}
	if out.Good() {
		out.Digest = mask(digests.String())
	}
	return out
}

// Digest is that of values, as Stand has it.
func Digest(refs []Ref, values Values, mask func(string) string) string {
	s := Stand(refs, func(p Place) Known {
		k := Known{Looked: true, Keys: map[string]string{}}
		for key, v := range values[p] {
			k.Keys[key] = mask(v)
		}
		return k
	}, mask)
	return s.Digest
}

func note(b *strings.Builder, r Ref, digest string) {
	b.WriteString(r.Short())
	b.WriteByte('=')
	b.WriteString(digest)
	b.WriteByte('\n')
}

func orElse(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// with stands between the hash of a declared object and the digest of what its references were filled with.
const with = " with "

// Mark is the hash of an object as it is applied with values of that digest; without one it is the hash.
func Mark(hash, digest string) string {
	if digest == "" {
		return hash
	}
	return hash + with + digest
}

// DigestIn is the digest of values in a mark; "" when there is none.
func DigestIn(mark string) string {
	_, digest, _ := strings.Cut(mark, with)
	return digest
}

// Bare is the hash without the digest of values.
func Bare(mark string) string {
	hash, _, _ := strings.Cut(mark, with)
	return hash
}
