// Package secret keeps passwords of sources and destinations encrypted at rest,
// with a key that lives outside of the database.
package secret

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// Box seals and opens secrets with AES-256-GCM (NIST SP 800-38D). It may be used
// by several goroutines.
type Box struct {
	aead cipher.AEAD
	mac  []byte // key of signatures, drawn from the other
}

// keySize is the length of the key in bytes.
const keySize = 32

// New makes a box from a key of 32 bytes.
func New(key []byte) (*Box, error) {
	if len(key) != keySize {
		return nil, fmt.Errorf("the secrets' key has %d bytes; it needs %d", len(key), keySize)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, fmt.Errorf("use the secrets' key: %w", err)
	}
	aead, err := cipher.NewGCM(block)
	if err != nil {
		return nil, fmt.Errorf("use the secrets' key: %w", err)
	}
	mac, err := hkdf.Key(sha256.New, key, nil, "ironbell signatures", sha256.Size)
	if err != nil {
		return nil, fmt.Errorf("draw the signatures' key: %w", err)
	}
	return &Box{aead: aead, mac: mac}, nil
}

// Sign makes a short signature of a text (HMAC-SHA-256, cut to 128 bits, as RFC
// 2104 section 5 allows), for links that act without a sign-in. It is safe in an
// address.
func (b *Box) Sign(text string) string {
	sum := hmac.New(sha256.New, b.mac)
	sum.Write([]byte(text))
	return strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(sum.Sum(nil)[:16]))
}

// Signed tells whether a signature is that of a text.
func (b *Box) Signed(text, signature string) bool {
	return hmac.Equal([]byte(b.Sign(text)), []byte(signature))
}

// FromFile makes a box from a key file, 32 bytes in base64. When there is none
// and create is set, it makes one that only its owner can read.
func FromFile(path string, create bool) (*Box, error) {
	text, err := os.ReadFile(path) //nolint:gosec // the operator names it
	if errors.Is(err, os.ErrNotExist) && create {
		key := make([]byte, keySize)
		if _, err := rand.Read(key); err != nil {
			return nil, fmt.Errorf("make the secrets' key: %w", err)
		}
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return nil, fmt.Errorf("make a place for the secrets' key: %w", err)
		}
		if err := os.WriteFile(path, []byte(base64.StdEncoding.EncodeToString(key)+"\n"), 0o600); err != nil {
			return nil, fmt.Errorf("write the secrets' key: %w", err)
		}
		return New(key)
	}
	if err != nil {
		return nil, fmt.Errorf("read the secrets' key: %w; name the file with -key-file", err)
	}
	key, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(text)))
	if err != nil {
		return nil, fmt.Errorf("the secrets' key in %s is no base64", path)
	}
	return New(key)
}

// Seal encrypts a secret for one record; what is sealed for one cannot be opened
// for another. An empty secret stays empty.
func (b *Box) Seal(record, plain string) ([]byte, error) {
	if plain == "" {
		return nil, nil
	}
	nonce := make([]byte, b.aead.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return nil, fmt.Errorf("seal the secret: %w", err)
	}
	return b.aead.Seal(nonce, nonce, []byte(plain), []byte(record)), nil
}

// Open decrypts what Seal made for the same record.
func (b *Box) Open(record string, sealed []byte) (string, error) {
	if len(sealed) == 0 {
		return "", nil
	}
	n := b.aead.NonceSize()
	if len(sealed) < n {
		return "", fmt.Errorf("the secret of %s is damaged", record)
	}
	plain, err := b.aead.Open(nil, sealed[:n], sealed[n:], []byte(record))
	if err != nil {
		return "",
			fmt.Errorf("the secret of %s cannot be opened with this key; is it the key file that it was saved with?",
				record)
	}
	return string(plain), nil
}
