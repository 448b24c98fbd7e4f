package secret

import (
	"encoding/base64"
	"fmt"
	"maps"
	"math"
	"reflect"
	"regexp"
	"slices"
	"strings"
)

// Look is a place in an object whose value looks like a secret. The value itself is not told.
type Look struct {
	Path string // such as spec.template.spec.containers[0].env[2].value
	What string // such as a private key
}

func (l Look) String() string { return l.Path + " looks like " + l.What }

// forms are key formats that are told by their own look. Only a text that holds one of its signs is looked at more closely.
var forms = []struct {
	what  string
	least int // bytes
	signs []string
	form  *regexp.Regexp // its first group, where it has one, is the secret itself
}{
	// Source: RFC 7468, and the armour of OpenPGP, RFC 9580 section 6.2
	{"a private key", 27, []string{"PRIVATE KEY"}, regexp.MustCompile(`-----BEGIN (?:[A-Z0-9]+ )*PRIVATE KEY(?: BLOCK)?-----`)},
	{"a private key", 27, []string{"AGE-SECRET-KEY-"}, regexp.MustCompile(`\bAGE-SECRET-KEY-(?:PQ-)?1[0-9A-Z]{40,}`)},
	// Source: RFC 7519: three parts in base64url, the first two of which are JSON
	{"a signed token", 30, []string{"eyJ"}, regexp.MustCompile(`\beyJ[A-Za-z0-9_-]{8,}\.eyJ[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]{16,}`)},
	// Prefixes that issuers give their keys so that they are found: letters, then what can't be a word.
	{"an access key", 20, []string{"AKIA", "ASIA"}, regexp.MustCompile(`\b(?:AKIA|ASIA)[0-9A-Z]{16}\b`)},
	{"an access token", 20, []string{"ghp_", "gho_", "ghu_", "ghs_", "ghr_", "github_pat_", "glpat-"}, regexp.MustCompile(`\b(?:ghp|gho|ghu|ghs|ghr)_[A-Za-z0-9]{36,}\b|\bgithub_pat_[A-Za-z0-9_]{50,}\b|\bglpat-[A-Za-z0-9_-]{20,}`)},
	{"an access token", 20, []string{"xox", "AIza", "k_live_", "npm_", "hvs.", "hvb."}, regexp.MustCompile(`\bxox[abposr]-[A-Za-z0-9-]{20,}|\bAIza[0-9A-Za-z_-]{35}\b|\b(?:sk|rk)_live_[0-9A-Za-z]{20,}\b|\bnpm_[A-Za-z0-9]{36}\b|\bhv[sb]\.[A-Za-z0-9_-]{24,}`)},
	// Source: RFC 3986 section 3.2.1
	{"an address with a password", 10, []string{"@"}, regexp.MustCompile(`\b[a-zA-Z][a-zA-Z0-9+.-]{1,20}://[^\s/:@"'$]*:([^\s/@"'${}]{3,})@[^\s/]`)},
	{"an authorization header", 26, []string{"earer ", "EARER ", "asic ", "ASIC "}, regexp.MustCompile(`(?i)\b(?:bearer|basic)\s+([A-Za-z0-9+/_.-]{20,}={0,2})`)},
}

// bears tells whether a text holds one of some signs.
func bears(text string, signs []string) bool {
	return slices.ContainsFunc(signs, func(s string) bool { return strings.Contains(text, s) })
}

// telling are the ends of names of what is secret, in small letters and without what stands between words.
var telling = []string{"passwd", "password", "passphrase", "secret", "token", "credential", "credentials", "apikey", "accesskey", "privatekey", "signingkey", "encryptionkey"}

// between is what stands between the words of a name.
var between = strings.NewReplacer("-", "", "_", "", ".", "")

// leading is what only leads to a secret.
var (
	leading = regexp.MustCompile(`^\s*(?:\$|/|\.{1,2}/|[a-zA-Z]+://[^@]*$|%)|^\s*\$?\{`)
	assigns = regexp.MustCompile(`(?m)^\s*(?:export\s+)?["']?([A-Za-z][A-Za-z0-9_.-]{2,60})["']?\s*[:=]\s*["']?([^\s"'#]{6,200})["']?,?\s*$`)
	flag    = regexp.MustCompile(`^--?([A-Za-z][A-Za-z0-9-]{2,60})=(.+)$`)
)

// Looking lists what in a value, as decoded from JSON, looks like a secret: known key formats wherever they stand, and texts of much entropy
// whose name says what they are. References and what only leads to a secret are none.
func Looking(value any) (out []Look) {
	look(nil, "", value, &out)
	slices.SortFunc(out, func(a, b Look) int { return strings.Compare(a.Path, b.Path) })
	return out
}

// most is how many looks are told of one value.
const most = 20

// place is where a value is; its path is written out once it is told.
type place struct {
	above *place
	key   string
	index int // in a list, when key is ""
}

func (p *place) String() string {
	switch {
	case p == nil:
		return ""
	case p.key == "":
		return fmt.Sprintf("%s[%d]", p.above, p.index)
	case strings.ContainsAny(p.key, "./[] "):
		return fmt.Sprintf("%s[%q]", p.above, p.key)
	case p.above == nil:
		return p.key
	}
	return p.above.String() + "." + p.key
}

func look(at *place, name string, value any, out *[]Look) {
	if len(*out) >= most {
		return
	}
	switch v := value.(type) {
	case map[string]any:
		given, _ := v["name"].(string) // of a variable
		for key, x := range v {
			switch x.(type) {
			case bool, int64, float64, nil:
				continue
			}
			called := key
			if key == "value" && given != "" {
				called = given
			}
			look(&place{at, key, 0}, called, x, out)
		}
	case []any:
		for i, x := range v {
			look(&place{at, "", i}, name, x, out)
		}
	case string:
		if what := LooksLike(name, v); what != "" {
			*out = append(*out, Look{at.String(), what})
		}
	case bool, int64, float64, nil:
	default:
		if m, ok := native(value); ok {
			look(at, name, m, out)
		}
	}
}

// native is a mapping or a list of another type than decoding gives.
func native(value any) (any, bool) {
	v := reflect.ValueOf(value)
	switch v.Kind() {
	case reflect.Map:
		out := map[string]any{}
		for _, k := range v.MapKeys() {
			out[fmt.Sprint(k.Interface())] = v.MapIndex(k).Interface()
		}
		return out, true
	case reflect.Slice:
		out := make([]any, v.Len())
		for i := range out {
			out[i] = v.Index(i).Interface()
		}
		return out, true
	}
	return nil, false
}

// LooksLike says what a text looks like that has a name; "" when it looks like no secret.
func LooksLike(name, text string) string {
	if len(text) < 6 {
		return ""
	}
	if strings.Contains(text, "secret") {
		if refs, _, err := Text(text); err == nil && len(refs) > 0 {
			text = Apart(text)
		}
	}
	for _, f := range forms {
		if len(text) >= f.least && bears(text, f.signs) && f.form.MatchString(text) {
			return f.what
		}
	}
	if secretive(name, text) {
		return "a value of " + name
	}
	if strings.HasPrefix(text, "-") {
		if m := flag.FindStringSubmatch(text); m != nil && secretive(m[1], m[2]) {
			return "a value of --" + m[1]
		}
	}
	if len(text) > 1<<20 || !hinting(text) {
		return ""
	}
	for _, m := range assigns.FindAllStringSubmatch(text, -1) { // a file with settings
		if secretive(m[1], m[2]) {
			return "a value of " + m[1] + " in it"
		}
	}
	return ""
}

// hinting tells whether a text may hold a setting whose name is telling.
func hinting(text string) bool {
	if !strings.ContainsAny(text, "=:") {
		return false
	}
	lower := strings.ToLower(text)
	return strings.Contains(lower, "pass") || strings.Contains(lower, "secret") || strings.Contains(lower, "token") || strings.Contains(lower, "credential") || strings.Contains(lower, "key")
}

// secretive tells whether a text is a secret by its name, and does not only lead to one.
func secretive(name, text string) bool {
	return len(text) >= 8 && len(text) <= 4096 && tells(name) && !strings.HasPrefix(text, Scheme) && !leading.MatchString(text) && !strings.ContainsAny(strings.TrimSpace(text), " \t\n") &&
		entropy(text) >= 2.75 && !plainWord.MatchString(text)
}

// tells tells whether a name says that its value is secret.
func tells(name string) bool {
	if len(name) < 4 {
		return false
	}
	switch name[len(name)-1] | 0x20 { // in small letters
	case 'd', 'e', 't', 'n', 'l', 's', 'y':
	default:
		return false
	}
	if strings.HasSuffix(name, "Pass") || strings.HasSuffix(name, "PASS") || name == "pass" || strings.HasSuffix(name, "_pass") || strings.HasSuffix(name, "-pass") || strings.HasSuffix(name, ".pass") {
		return true
	}
	plain := between.Replace(strings.ToLower(name))
	return slices.ContainsFunc(telling, func(w string) bool { return strings.HasSuffix(plain, w) })
}

// plainWord is a text that is a name rather than a value: small letters with dashes and dots, true, false, or a number.
var plainWord = regexp.MustCompile(`^(?:[a-z]+(?:[-_./][a-z]+)*|[0-9]+(?:[a-z]{1,2})?|(?i:true|false|none|null|changeme|redacted|placeholder|x+|\*+))$`)

// entropy is Shannon's, in bits a character. Source: C. E. Shannon, A Mathematical Theory of Communication, 1948, section 6
func entropy(text string) (out float64) {
	count, n := map[rune]float64{}, 0.0
	for _, c := range text {
		count[c]++
		n++
	}
	for _, k := range count {
		out -= k / n * math.Log2(k/n)
	}
	return out
}

// Veil stands in place of a value that nobody may see.
const Veil = "***"

// Veiled is a Secret's body with its literal values veiled; references stay.
func Veiled(body map[string]any) map[string]any {
	out := maps.Clone(body)
	for _, field := range []string{"data", "stringData"} {
		values, ok := body[field].(map[string]any)
		if !ok {
			continue
		}
		veiled := make(map[string]any, len(values))
		for key, v := range values {
			veiled[key] = v
			if text, ok := v.(string); ok {
				veiled[key] = veil(field, text)
			}
		}
		out[field] = veiled
	}
	return out
}

// veil is a value of a Secret as it may be seen, decoded: a reference, or text with references in it whose other parts are veiled.
func veil(field, text string) string {
	if text == "" {
		return ""
	}
	if field == "data" && !Folded(text) {
		plain, err := base64.StdEncoding.DecodeString(text)
		if err != nil {
			return Veil
		}
		text = string(plain)
	}
	refs, whole, err := Text(text)
	switch {
	case err != nil || len(refs) == 0:
		return Veil
	case whole:
		return refs[0].String()
	}
	var out strings.Builder
	out.WriteString(Veil)
	for _, r := range refs {
		out.WriteString(Within(r) + Veil)
	}
	return out.String()
}
