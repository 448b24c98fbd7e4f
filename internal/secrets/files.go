package secrets

import (
	"bytes"
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"errors"
	"fmt"
	"hash"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"filippo.io/age"
	"filippo.io/age/armor"
	"go.yaml.in/yaml/v3"
)

// Files are the files of a repository. What is not there is ErrNone; an *Error else.
type Files interface {
	// Read reads a file; version is another when its content is.
	Read(ctx context.Context, path string) (text []byte, version string, err error)
	Try(ctx context.Context) error
	// Where names a file for people.
	Where(path string) string
}

// files is a store whose places are encrypted files in git, in the SOPS format with age: the path of a place is that of a file without its
// ending, and a key is that of a value, with dots where it lies deeper. It is read here and written by whoever has the files.
//
// The format is open, and small once only age is asked for: its own library brings the clients of five clouds, a thousand packages and
// 46 MB. Files that the library has written are read in the tests. Source: https://github.com/getsops/sops (docs, "Encryption protocol")
type files struct {
	name       string
	identities []age.Identity
	files      Files
}

// NewFiles opens a store of encrypted files; key holds age identities, a line each.
func NewFiles(name, key string, f Files) (Store, error) {
	ids, err := age.ParseIdentities(strings.NewReader(key))
	if err != nil || len(ids) == 0 {
		return nil, fmt.Errorf("store %s: its key is none of age (lines that start with AGE-SECRET-KEY-)", name)
	}
	return files{name, ids, f}, nil
}

var endings = []string{".yaml", ".yml", ".json"}

func (s files) read(ctx context.Context, path string) (text []byte, version, name string, err error) {
	for _, ending := range endings {
		text, version, err := s.files.Read(ctx, path+ending)
		if !errors.Is(err, ErrNone) {
			return text, version, path + ending, err
		}
	}
	return nil, "", "", ErrNone
}

func (s files) Version(ctx context.Context, path string) (string, error) {
	_, version, _, err := s.read(ctx, path)
	return version, err
}

func (s files) Read(ctx context.Context, path string) (Values, error) {
	text, version, name, err := s.read(ctx, path)
	if err != nil {
		return Values{}, err
	}
	keys, err := decrypt(text, s.identities)
	if err != nil {
		return Values{}, refused("store %s: %s: %v", s.name, s.files.Where(name), err)
	}
	return Values{Version: version, Keys: keys}, nil
}

// Set does nothing: who has the files changes them, in git.
func (s files) Set(_ context.Context, path, key, _ string) error {
	return refused("store %s is files in git: %s", s.name, s.SetBy(path))
}

// SetBy says how a value is set.
func (s files) SetBy(path string) string {
	return "set it in " + s.files.Where(path+endings[0]) + ", encrypted, and push"
}

func (s files) Try(ctx context.Context) error { return s.files.Try(ctx) }

// sealedFile is what a file says of how it is encrypted.
type sealedFile struct {
	Age []struct {
		Enc string `yaml:"enc"`
	} `yaml:"age"`
	Modified string      `yaml:"lastmodified"`
	MAC      string      `yaml:"mac"`
	Groups   []yaml.Node `yaml:"key_groups"`
	Only     bool        `yaml:"mac_only_encrypted"`
}

// onlyMark begins what is hashed of a file of which encrypted values alone are.
var onlyMark = sha256.Sum256([]byte("sops"))

// small tells whether no mapping has very many keys: decoding holds each against all others.
func small(n *yaml.Node) bool {
	return n.Kind != yaml.AliasNode && (n.Kind != yaml.MappingNode || len(n.Content) <= 2*200) && !slices.ContainsFunc(n.Content, func(x *yaml.Node) bool { return !small(x) })
}

// decrypt reads a file's values, and makes sure that they are those that were encrypted together. No error holds a value.
func decrypt(text []byte, ids []age.Identity) (map[string]string, error) {
	var root yaml.Node
	in := yaml.NewDecoder(bytes.NewReader(text))
	if err := in.Decode(&root); err != nil {
		return nil, errors.New("it can't be read as YAML or JSON")
	}
	if err := in.Decode(&yaml.Node{}); !errors.Is(err, io.EOF) {
		return nil, errors.New("it holds more than one document; write a file for each")
	}
	if len(root.Content) != 1 || root.Content[0].Kind != yaml.MappingNode {
		return nil, errors.New("it is no mapping of keys to values")
	}
	top := root.Content[0]
	var how *yaml.Node
	for i := 0; i+1 < len(top.Content); i += 2 {
		if top.Content[i].Value == "sops" {
			how = top.Content[i+1]
			top.Content = append(top.Content[:i:i], top.Content[i+2:]...)
			break
		}
	}
	if how == nil {
		return nil, errors.New("it is not encrypted: what stands in it is in git as it is")
	}
	var meta sealedFile
	if !small(how) {
		return nil, errors.New("what it says of its encryption is too long")
	}
	if err := how.Decode(&meta); err != nil {
		return nil, errors.New("what it says of its encryption can't be read")
	}
	key, err := meta.key(ids)
	if err != nil {
		return nil, err
	}
	o := &opened{key: key, hash: sha512.New(), out: map[string]string{}, only: meta.Only}
	if meta.Only {
		o.hash.Write(onlyMark[:])
	}
	if err := o.walk(top, nil, true); err != nil {
		return nil, err
	}
	at, err := time.Parse(time.RFC3339, meta.Modified)
	if err != nil {
		return nil, errors.New("it does not say when it was encrypted (lastmodified)")
	}
	mac, _, err := o.open(meta.MAC, at.Format(time.RFC3339))
	if err != nil || !hmac.Equal([]byte(mac), []byte(fmt.Sprintf("%X", o.hash.Sum(nil)))) {
		return nil, errors.New("its values are not those that were encrypted together (its MAC is another): somebody has changed it by hand, or merged it; encrypt it anew")
	}
	return o.out, nil
}

// key is the data key, opened with the first identity that it was encrypted to.
func (m sealedFile) key(ids []age.Identity) ([]byte, error) {
	if len(m.Groups) > 0 {
		return nil, errors.New("it is encrypted to groups of keys, which can't be read here; encrypt it to age alone")
	}
	if len(m.Age) == 0 {
		return nil, errors.New("it is encrypted to no age key; encrypt it to the public key of the store as well")
	}
	for _, a := range m.Age {
		r, err := age.Decrypt(armor.NewReader(strings.NewReader(a.Enc)), ids...)
		if err != nil {
			continue
		}
		if key, err := io.ReadAll(io.LimitReader(r, 64)); err == nil && len(key) == 32 {
			return key, nil
		}
	}
	return nil, errors.New("it is encrypted to other keys than the store's; encrypt it to the public key of the store as well")
}

// opened are the values of a file that is being read.
type opened struct {
	key  []byte
	hash hash.Hash
	out  map[string]string
	only bool
}

// walk reads what is below a node. Lists count for what was encrypted together, and are no values of the store.
func (o *opened) walk(n *yaml.Node, path []string, named bool) error {
	switch n.Kind {
	case yaml.MappingNode:
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i].Kind != yaml.ScalarNode {
				return errors.New("it has a key that is no text")
			}
			if err := o.walk(n.Content[i+1], append(path[:len(path):len(path)], n.Content[i].Value), named); err != nil {
				return err
			}
		}
	case yaml.SequenceNode:
		for _, c := range n.Content {
			if err := o.walk(c, path, false); err != nil {
				return err
			}
		}
	case yaml.ScalarNode:
		return o.leaf(n, path, named)
	default:
		return errors.New("it has an alias, which an encrypted file does not")
	}
	return nil
}

func (o *opened) leaf(n *yaml.Node, path []string, named bool) error {
	if n.ShortTag() == "!!null" {
		return nil
	}
	value, hashed, sealed := n.Value, "", sealedValue.MatchString(n.Value)
	if sealed {
		plain, kind, err := o.open(n.Value, strings.Join(path, ":")+":")
		switch {
		case err != nil:
			return fmt.Errorf("%s: %w", strings.Join(path, "."), err)
		case kind == "comment":
			return nil
		}
		value, hashed = plain, canonical(plain, kind)
	} else {
		hashed = canonical(value, map[string]string{"!!int": "int", "!!float": "float", "!!bool": "bool", "!!timestamp": "time"}[n.ShortTag()])
	}
	if !o.only || sealed {
		o.hash.Write([]byte(hashed))
	}
	if named {
		if len(o.out) >= maxKeys {
			return fmt.Errorf("it has more than %d values", maxKeys)
		}
		o.out[strings.Join(path, ".")] = value
	}
	return nil
}

// canonical is a value as it is hashed.
func canonical(text, kind string) string {
	switch kind {
	case "int":
		if n, err := strconv.Atoi(text); err == nil {
			return strconv.Itoa(n)
		}
	case "float":
		if f, err := strconv.ParseFloat(text, 64); err == nil {
			return strconv.FormatFloat(f, 'f', -1, 64)
		}
	case "bool":
		if b, err := strconv.ParseBool(text); err == nil && b {
			return "True"
		} else if err == nil {
			return "False"
		}
	}
	return text
}

var sealedValue = regexp.MustCompile(`^ENC\[AES256_GCM,data:(.+),iv:(.+),tag:(.+),type:(.+)\]$`)

// open opens one value. What stands around it has to be as it was.
func (o *opened) open(text, around string) (plain, kind string, err error) {
	m := sealedValue.FindStringSubmatch(text)
	if m == nil {
		return "", "", errors.New("it is not encrypted as the others are")
	}
	var parts [3][]byte
	for i := range parts {
		if parts[i], err = base64.StdEncoding.DecodeString(m[i+1]); err != nil {
			return "", "", errors.New("it is no encrypted value")
		}
	}
	block, err := aes.NewCipher(o.key)
	if err != nil {
		return "", "", err
	}
	if len(parts[1]) == 0 || len(parts[1]) > 64 || len(parts[2]) != 16 {
		return "", "", errors.New("it is no encrypted value")
	}
	gcm, err := cipher.NewGCMWithNonceSize(block, len(parts[1]))
	if err != nil {
		return "", "", err
	}
	out, err := gcm.Open(nil, parts[1], append(parts[0], parts[2]...), []byte(around))
	if err != nil {
		return "", "", errors.New("it was not encrypted here, under this key")
	}
	return string(out), m[4], nil
}
