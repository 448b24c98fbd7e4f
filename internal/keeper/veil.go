package keeper

import "bytes"

// another stands in a text for a ward that its reader does not see.
const another = "another ward"

// Veil takes the names of wards that somebody does not see out of a text: where one of theirs waits for another, or wants what another keeps. Wards
// are named there as NAME@CLUSTER, or as ward NAME.
func (k *Keeper) Veil(w Who, text []byte) []byte {
	if w.Rights.All() {
		return text
	}
	sees := w.Rights.Seer()
	seen := map[string]bool{} // of each name, whether it may stand there
	text = replaceIDs(text, func(id []byte) bool {
		may, known := seen[string(id)]
		if !known {
			k.mu.RLock()
			p := k.kept.all[string(id)]
			k.mu.RUnlock()
			may = p == nil || sees(ThingOf(p.View()))
			seen[string(id)] = may
		}
		return may
	})
	return replaceNamed(text, func(name []byte) bool {
		may, known := seen[string(name)]
		if !known {
			all := k.named(string(name))
			may = len(all) == 0
			for _, p := range all {
				may = may || sees(ThingOf(p.View()))
			}
			seen[string(name)] = may
		}
		return may
	})
}

// letter tells whether something can stand within a name; one begins with no dash.
func letter(b byte) bool { return b >= 'a' && b <= 'z' || b >= '0' && b <= '9' || b == '-' }

// from is where the name begins that goes on to i; i where there is none.
func from(text []byte, i, least int) int {
	at := i
	for at > least && letter(text[at-1]) {
		at--
	}
	for at < i && text[at] == '-' {
		at++
	}
	return at
}

// to is where the name ends that begins at i; i where there is none.
func to(text []byte, i int) int {
	at := i
	for at < len(text) && letter(text[at]) {
		at++
	}
	if at > i && text[i] == '-' {
		return i
	}
	return at
}

// replaceIDs puts other words for each NAME@CLUSTER that may not stand there. Most texts hold none that may not: they stay as they are.
func replaceIDs(text []byte, may func(id []byte) bool) []byte {
	var out []byte
	done, least := 0, 0 // written, and looked at
	for i := 0; i < len(text); {
		next := bytes.IndexByte(text[i:], '@')
		if next < 0 {
			break
		}
		at := i + next
		begin, end := from(text, at, least), to(text, at+1)
		i = at + 1
		if begin == at || end == at+1 {
			continue
		}
		if i, least = end, end; may(text[begin:end]) {
			continue
		}
		out = append(append(out, text[done:begin]...), another...)
		done = end
	}
	if done == 0 {
		return text
	}
	return append(out, text[done:]...)
}

var wardWord = []byte("ward ")

// replaceNamed puts other words for each ward NAME that may not stand there.
func replaceNamed(text []byte, may func(name []byte) bool) []byte {
	var out []byte
	done := 0
	for i := 0; i < len(text); {
		next := bytes.Index(text[i:], wardWord)
		if next < 0 {
			break
		}
		begin := i + next
		name := begin + len(wardWord)
		end := to(text, name)
		i = name
		if end == name || begin > 0 && (letter(text[begin-1]) && text[begin-1] != '-' || text[begin-1] == '_' || text[begin-1] >= 'A' && text[begin-1] <= 'Z') {
			continue
		}
		if i = end; may(text[name:end]) {
			continue
		}
		out = append(append(out, text[done:begin]...), another...)
		done = end
	}
	if done == 0 {
		return text
	}
	return append(out, text[done:]...)
}
