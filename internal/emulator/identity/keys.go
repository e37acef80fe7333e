package identity

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"

	"neighbour/internal/core/machine/atomicfile"
)

// oldKeys is how many keys are still told to clients that sign nothing any more.
const oldKeys = 2

// key signs tokens.
type key struct {
	ID      string    `json:"kid"`
	Made    time.Time `json:"made"`
	Private []byte    `json:"key"` // PKCS #8

	parsed *rsa.PrivateKey
	signer map[string]jose.Signer // by type of token
}

// keys are those that the provider has, the one that signs first. They are kept in a file, so
// that tokens are good after a restart.
type keys struct {
	file string
	mu   sync.Mutex
	all  []*key
}

func openKeys(dir string) (*keys, error) {
	k := &keys{file: filepath.Join(dir, "keys.json")}
	if err := atomicfile.ReadJSON(k.file, &k.all); err != nil {
		return nil, fmt.Errorf("the keys can't be read: %w; remove %s to have new ones made", err, k.file)
	}
	for _, one := range k.all {
		if err := one.parse(); err != nil {
			return nil, fmt.Errorf("a key is damaged: %w; remove %s to have new ones made", err, k.file)
		}
	}
	if len(k.all) == 0 {
		return k, k.rotate(time.Now())
	}
	return k, nil
}

func (k *key) parse() error {
	parsed, err := x509.ParsePKCS8PrivateKey(k.Private)
	if err != nil {
		return err
	}
	own, ok := parsed.(*rsa.PrivateKey)
	if !ok {
		return errors.New("it is not one of RSA")
	}
	k.parsed, k.signer = own, map[string]jose.Signer{}
	for _, kind := range []string{"JWT", "at+jwt"} {
		o := (&jose.SignerOptions{}).WithType(jose.ContentType(kind)).WithHeader("kid", k.ID)
		if k.signer[kind], err = jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: own}, o); err != nil {
			return err
		}
	}
	return nil
}

// rotate has a new key sign from now on. Those before it stay known for a while.
func (k *keys) rotate(now time.Time) error {
	made, err := makeKey(now)
	if err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	all := append([]*key{made}, k.all...)
	all = all[:min(len(all), 1+oldKeys)]
	b, err := json.Marshal(all)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(k.file), 0o700); err != nil {
		return err
	}
	if err := atomicfile.Write(k.file, b, 0o600); err != nil {
		return err
	}
	k.all = all
	return nil
}

func makeKey(now time.Time) (*key, error) {
	own, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return nil, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(own)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(x509.MarshalPKCS1PublicKey(&own.PublicKey))
	k := &key{ID: base64.RawURLEncoding.EncodeToString(sum[:9]), Made: now, Private: der}
	return k, k.parse()
}

// current returns the key that signs.
func (k *keys) current() *key {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.all[0]
}

// public returns the keys as clients get them (RFC 7517).
func (k *keys) public() jose.JSONWebKeySet {
	k.mu.Lock()
	defer k.mu.Unlock()
	var set jose.JSONWebKeySet
	for _, one := range k.all {
		set.Keys = append(set.Keys, jose.JSONWebKey{Key: &one.parsed.PublicKey, KeyID: one.ID, Algorithm: string(jose.RS256), Use: "sig"})
	}
	return set
}
