// Package grant decides what people may. It is pure. Start with Roles and Given.
package grant

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Role is a set of rights that is ready-made: each holds those of the ones before it.
type Role string

// The roles.
const (
	Reader   Role = "reader"   // sees everything and changes nothing
	Operator Role = "operator" // does all that wards, rosters, repositories and clusters need
	Admin    Role = "admin"    // makes and ends tokens, and says who signs in, beside that
)

// Roles are the roles, the one that may least first.
var Roles = []Role{Reader, Operator, Admin}

// May tells whether a role may what another may; an unknown one may nothing.
func (r Role) May(want Role) bool {
	has, wanted := slices.Index(Roles, r), slices.Index(Roles, want)
	return has >= 0 && wanted >= 0 && has >= wanted
}

// Identity is who somebody is, as a provider says it (OpenID Connect Core 1.0, section 5.1).
type Identity struct {
	Provider string   `json:"provider"`
	Subject  string   `json:"subject"` // never another's at this provider
	Name     string   `json:"name"`
	Groups   []string `json:"groups,omitempty"`
}

// Title is how somebody is called in logbooks and the audit: PROVIDER:NAME, so that nobody of one provider passes for somebody of another, nor for a token.
func (i Identity) Title() string { return i.Provider + ":" + i.Name }

// Members are some of those whom a provider knows.
type Members struct {
	Groups    []string `json:"groups,omitempty"`
	Users     []string `json:"users,omitempty"` // by the name that the provider gives them
	Everybody bool     `json:"everybody,omitempty"`
}

// ParseMembers reads members: group:NAME, user:NAME or everybody. Errors name the text that is none of them.
func ParseMembers(texts []string) (m Members, err error) {
	for _, text := range texts {
		kind, name, _ := strings.Cut(text, ":")
		switch {
		case text == "everybody":
			m.Everybody = true
		case kind == "group" && name != "":
			m.Groups = append(m.Groups, name)
		case kind == "user" && name != "":
			m.Users = append(m.Users, name)
		default:
			return m, fmt.Errorf("%q is nobody: write group:NAME, user:NAME or everybody", text)
		}
	}
	return m, nil
}

// Has tells whether somebody is among the members. Groups and names are compared letter by letter.
func (m Members) Has(i Identity) bool {
	return m.Everybody || slices.Contains(m.Users, i.Name) || slices.ContainsFunc(m.Groups, func(g string) bool { return slices.Contains(i.Groups, g) })
}

// Given says who of a provider has which role, as texts that ParseMembers reads.
type Given struct {
	Admins    []string `json:"admins,omitempty"`
	Operators []string `json:"operators,omitempty"`
	Readers   []string `json:"readers,omitempty"`
}

// Check tells what is wrong with it; nobody at all is wrong too.
func (g Given) Check() error {
	for _, x := range []struct {
		role Role
		who  []string
	}{{Admin, g.Admins}, {Operator, g.Operators}, {Reader, g.Readers}} {
		if m, err := ParseMembers(x.who); err != nil {
			return fmt.Errorf("%ss: %w", x.role, err)
		} else if m.Everybody && x.role == Admin {
			return fmt.Errorf("admins: everybody is too many; name groups or users")
		}
	}
	if len(g.Admins)+len(g.Operators)+len(g.Readers) == 0 {
		return fmt.Errorf("nobody could sign in by it; say who may: readers, operators or admins, as group:NAME, user:NAME or everybody")
	}
	return nil
}

// Role is the highest role that somebody has; "" for one who has none.
func (g Given) Role(i Identity) Role {
	var out Role
	for role, who := range map[Role][]string{Admin: g.Admins, Operator: g.Operators, Reader: g.Readers} {
		if m, err := ParseMembers(who); err == nil && m.Has(i) {
			out = slices.MaxFunc([]Role{out, role}, func(a, b Role) int { return cmp.Compare(slices.Index(Roles, a), slices.Index(Roles, b)) })
		}
	}
	return out
}
