// Package visible writes out the characters that a terminal would obey instead of showing: what comes from a commit, a
// cluster or a log can then forge no line, colour nothing and reach no clipboard. Start with Text.
package visible

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Text is s with every control character but line ends and tabs written out, as \x1b; so are the characters that turn the
// direction of writing (https://www.unicode.org/reports/tr9/), and bytes that are no UTF-8.
func Text(s string) string { return written(s, "\n\t") }

// Line is Text, on one line.
func Line(s string) string { return written(s, "") }

func written(s, keep string) string {
	obeyed := func(r rune) bool { return obeyed(r) && !strings.ContainsRune(keep, r) }
	if utf8.ValidString(s) && strings.IndexFunc(s, obeyed) < 0 {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == utf8.RuneError && n == 1:
			fmt.Fprintf(&b, `\x%02x`, s[i])
		case !obeyed(r):
			b.WriteString(s[i : i+n])
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\r':
			b.WriteString(`\r`)
		case r == '\t':
			b.WriteString(`\t`)
		case r < 0x100:
			fmt.Fprintf(&b, `\x%02x`, r)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
		i += n
	}
	return b.String()
}

func obeyed(r rune) bool {
	return r < 0x20 || r >= 0x7f && r < 0xa0 || r == 0x200e || r == 0x200f || r >= 0x202a && r <= 0x202e || r == 0x2028 || r == 0x2029 || r >= 0x2066 && r <= 0x2069
}
