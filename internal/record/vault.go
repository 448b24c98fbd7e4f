package record

import (
	"bytes"
	"compress/gzip"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"

	"filippo.io/age"
	utiljson "k8s.io/apimachinery/pkg/util/json"
)

// Vault encrypts what is secret with age, and makes keyed digests of it. Its key is a file beside the database,
// or the environment variable VIGILA_KEY (an AGE-SECRET-KEY-… line).
type Vault struct {
	identity *age.X25519Identity
	mac      []byte
}

// OpenVault reads the key, and makes one when there is none yet.
func OpenVault(file string) (*Vault, error) {
	text := os.Getenv("VIGILA_KEY")
	from := "VIGILA_KEY"
	if text == "" {
		from = file
		b, err := os.ReadFile(file)
		if errors.Is(err, os.ErrNotExist) {
			id, err := age.GenerateX25519Identity()
			if err != nil {
				return nil, err
			}
			b = []byte(id.String() + "\n")
			if err := os.WriteFile(file, b, 0o600); err != nil {
				return nil, fmt.Errorf("write the key: %w", err)
			}
		} else if err != nil {
			return nil, fmt.Errorf("read the key: %w", err)
		}
		text = string(b)
	}
	id, err := age.ParseX25519Identity(strings.TrimSpace(text))
	if err != nil {
		return nil, fmt.Errorf("%s does not hold an age key (a line that starts with AGE-SECRET-KEY-)", from)
	}
	sum := sha256.Sum256([]byte("vigila digest\n" + id.String()))
	return &Vault{id, sum[:]}, nil
}

// Seal encrypts; nothing stays nothing.
func (v *Vault) Seal(plain []byte) ([]byte, error) {
	if len(plain) == 0 {
		return nil, nil
	}
	var b bytes.Buffer
	w, err := age.Encrypt(&b, v.identity.Recipient())
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(plain); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// Open decrypts what Seal made.
func (v *Vault) Open(sealed []byte) ([]byte, error) {
	if len(sealed) == 0 {
		return nil, nil
	}
	r, err := age.Decrypt(bytes.NewReader(sealed), v.identity)
	if err != nil {
		return nil, fmt.Errorf("it was encrypted with another key: %w", err)
	}
	return io.ReadAll(r)
}

// DigestKey is the key of Digest; DigestsAs takes that of another: a lookout tells the same values by the same digests as its service.
func (v *Vault) DigestKey() []byte { return v.mac }

// DigestsAs is told of at DigestKey.
func (v *Vault) DigestsAs(key []byte) { v.mac = key }

// Digest is a keyed digest of 16 hex digits: equal values have equal digests, and it tells nothing else.
func (v *Vault) Digest(value string) string {
	h := hmac.New(sha256.New, v.mac)
	h.Write([]byte(value))
	return hex.EncodeToString(h.Sum(nil))[:16]
}

// packers are reused: a new one costs more than what it packs here.
var packers = sync.Pool{New: func() any { return gzip.NewWriter(nil) }}

// worthPacking is the size in bytes below which JSON is kept as it is: packing it takes longer than writing it.
const worthPacking = 2048

// pack makes JSON, and gzip of it when that is worth it; unpack reads either.
func pack(v any) ([]byte, error) {
	text, err := json.Marshal(v)
	if err != nil || len(text) < worthPacking {
		return text, err
	}
	var b bytes.Buffer
	w := packers.Get().(*gzip.Writer)
	defer packers.Put(w)
	w.Reset(&b)
	if _, err := w.Write(text); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

func unpack(b []byte, into any) error {
	if !bytes.HasPrefix(b, []byte{0x1f, 0x8b}) { // gzip, RFC 1952
		return utiljson.Unmarshal(b, into)
	}
	r, err := gzip.NewReader(bytes.NewReader(b))
	if err != nil {
		return err
	}
	text, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	return utiljson.Unmarshal(text, into)
}
