package repo

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/hiddeco/sshsig"
	"golang.org/x/crypto/ssh"
)

// ErrUnsigned tells that a commit is not signed as its repository asks.
var ErrUnsigned = errors.New("it is not signed by anybody listed")

// unsignedError says it in its own words; it is ErrUnsigned.
type unsignedError struct{ text string }

func (e *unsignedError) Error() string        { return e.text }
func (e *unsignedError) Is(target error) bool { return target == ErrUnsigned }

// signers are those whose signature counts.
type signers struct {
	keys []ssh.PublicKey
	ring openpgp.EntityList
}

// CheckSigners reads a list of signers: SSH public keys one a line, as in authorized_keys or allowed_signers files, and
// armored OpenPGP public keys.
func CheckSigners(text string) error {
	_, err := parseSigners(text)
	return err
}

func parseSigners(text string) (*signers, error) {
	const begin, end = "-----BEGIN PGP PUBLIC KEY BLOCK-----", "-----END PGP PUBLIC KEY BLOCK-----"
	out := &signers{}
	for {
		before, rest, found := strings.Cut(text, begin)
		if err := out.lines(before); err != nil {
			return nil, err
		}
		if !found {
			break
		}
		block, after, closed := strings.Cut(rest, end)
		if !closed {
			return nil, errors.New("an OpenPGP key has no end (" + end + ")")
		}
		ring, err := openpgp.ReadArmoredKeyRing(strings.NewReader(begin + block + end))
		if err != nil {
			return nil, fmt.Errorf("an OpenPGP key can't be read: %w", err)
		}
		out.ring = append(out.ring, ring...)
		text = after
	}
	if len(out.keys)+len(out.ring) == 0 {
		return nil, errors.New("the list of signers names no key")
	}
	return out, nil
}

func (s *signers) lines(text string) error {
	for n, row := range strings.Split(text, "\n") {
		row = strings.TrimSpace(row)
		if row == "" || row[0] == '#' {
			continue
		}
		key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(row))
		if err != nil { // allowed_signers: who comes first
			_, rest, _ := strings.Cut(row, " ")
			key, _, _, _, err = ssh.ParseAuthorizedKey([]byte(rest))
		}
		if err != nil {
			return fmt.Errorf("line %d of the signers is neither an SSH public key (ssh-ed25519 AAAA…) nor part of an armored OpenPGP key", n+1)
		}
		s.keys = append(s.keys, key)
	}
	return nil
}

// vouch makes sure that a commit, or the tag that led to it, is signed by somebody the source lists. name is the whole name by
// which it was found; a tag vouches for the commit that it leads to, under its own name alone.
func (m *Mirror) vouch(id, name string) error {
	if m.source.Signers == "" {
		return nil
	}
	key := id + " " + m.source.Signers
	if _, known := m.vouched.Load(key); known {
		return nil
	}
	who, err := parseSigners(m.source.Signers)
	if err != nil {
		return fmt.Errorf("repository %s: %w", m.Name(), err)
	}
	_, kind, data, err := m.read(id)
	if err != nil {
		return err
	}
	if kind != "commit" {
		return m.broken(short(id))
	}
	body, signature := cutSignature(data)
	why := who.check(body, signature)
	if why != nil && strings.HasPrefix(name, "refs/tags/") {
		if _, kind, tag, err := m.read(name); err == nil && kind == "tag" {
			if body, signature := cutTagSignature(tag); signature != "" && who.check(body, signature) == nil && m.peels(body, id) {
				return nil // of this tag, not of the commit: by another name it is not signed
			}
		}
	}
	if why != nil {
		rev := parseCommit(id, data)
		return &unsignedError{fmt.Sprintf("commit %s of %s (%q, by %s) %v; repository %s takes only signed commits, so it is not applied. Sign it (git commit -S), or list the key: vigila repo add %s %s --signers-file FILE",
			short(id), m.Name(), rev.Subject, rev.Author, why, m.Name(), m.Name(), m.source.URL)}
	}
	m.vouched.Store(key, true)
	return nil
}

// peels tells whether what a tag says leads to a commit, by way of other tags or not.
func (m *Mirror) peels(tag []byte, commit string) bool {
	for range 8 {
		head, _, _ := bytes.Cut(tag, []byte("\n\n"))
		first, second, _ := bytes.Cut(head, []byte("\n"))
		id, is := bytes.CutPrefix(first, []byte("object "))
		kind, _, _ := bytes.Cut(second, []byte("\n"))
		switch {
		case !is:
			return false
		case string(kind) == "type commit":
			return string(id) == commit
		case string(kind) != "type tag":
			return false
		}
		_, what, data, err := m.read(string(id))
		if err != nil || what != "tag" {
			return false
		}
		tag = data
	}
	return false
}

// check tells why a signature does not count; nil when it does.
func (s *signers) check(body []byte, signature string) error {
	switch {
	case signature == "":
		return errors.New("is not signed")
	case strings.HasPrefix(signature, "-----BEGIN SSH SIGNATURE-----"):
		sig, err := sshsig.Unarmor([]byte(signature))
		if err != nil {
			return errors.New("has a signature that can't be read")
		}
		for _, k := range s.keys {
			if bytes.Equal(k.Marshal(), sig.PublicKey.Marshal()) {
				if sshsig.Verify(bytes.NewReader(body), sig, k, sig.HashAlgorithm, "git") != nil {
					return errors.New("does not match its signature")
				}
				return nil
			}
		}
		return fmt.Errorf("is signed by a key that is not listed (%s)", ssh.FingerprintSHA256(sig.PublicKey))
	case strings.HasPrefix(signature, "-----BEGIN PGP"):
		if _, err := openpgp.CheckArmoredDetachedSignature(s.ring, bytes.NewReader(body), strings.NewReader(signature), nil); err != nil {
			return fmt.Errorf("has an OpenPGP signature that does not count (%w)", err)
		}
		return nil
	}
	return errors.New("is signed in a way that is not known here")
}

// signed is a commit with a signature, where the source has a key for that; the commit itself where it has none.
// Format: https://git-scm.com/docs/gitformat-signature, and PROTOCOL.sshsig of OpenSSH with the namespace "git".
func (m *Mirror) signed(ctx context.Context, id string) (string, error) {
	m.mu.Lock()
	pem := m.source.SignKey
	m.mu.Unlock()
	if pem == "" {
		return id, nil
	}
	raw, err := ParseKey(pem, "")
	if err != nil {
		return "", fmt.Errorf("%s: the key that signs commits: %w", m.Name(), err)
	}
	signer, err := ssh.NewSignerFromKey(raw)
	if err != nil {
		return "", fmt.Errorf("%s: the key that signs commits: %w", m.Name(), err)
	}
	_, _, data, err := m.read(id)
	if err != nil {
		return "", err
	}
	sig, err := sshsig.Sign(bytes.NewReader(data), signer, sshsig.HashSHA512, "git")
	if err != nil {
		return "", fmt.Errorf("%s: a commit can't be signed: %w", m.Name(), err)
	}
	head, rest, _ := bytes.Cut(data, []byte("\n\n"))
	armored := strings.ReplaceAll(strings.TrimSpace(string(sshsig.Armor(sig))), "\n", "\n ")
	text := append(append(bytes.Clone(head), "\ngpgsig "+armored+"\n\n"...), rest...)
	out, err := m.run(ctx, nil, text, "hash-object", "-t", "commit", "-w", "--stdin")
	return strings.TrimSpace(string(out)), err
}

// cutSignature takes the signature out of a commit; what is left is what was signed.
// Format: https://git-scm.com/docs/signature-format
func cutSignature(data []byte) (body []byte, signature string) {
	head, rest, _ := bytes.Cut(data, []byte("\n\n"))
	var kept [][]byte
	in := false
	var sig []string
	for _, row := range bytes.Split(head, []byte("\n")) {
		switch {
		case bytes.HasPrefix(row, []byte("gpgsig ")):
			in = true
			sig = append(sig, string(row[len("gpgsig "):]))
			continue
		case bytes.HasPrefix(row, []byte("gpgsig-sha256 ")):
			in = true
			continue
		case in && bytes.HasPrefix(row, []byte(" ")):
			sig = append(sig, string(row[1:]))
			continue
		}
		in = false
		kept = append(kept, row)
	}
	body = append(bytes.Join(kept, []byte("\n")), "\n\n"...)
	return append(body, rest...), strings.TrimSpace(strings.Join(sig, "\n"))
}

func cutTagSignature(data []byte) (body []byte, signature string) {
	for _, begin := range []string{"-----BEGIN SSH SIGNATURE-----", "-----BEGIN PGP SIGNATURE-----"} {
		if i := bytes.Index(data, []byte(begin)); i >= 0 {
			return data[:i], strings.TrimSpace(string(data[i:]))
		}
	}
	return data, ""
}
