package share

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"omnivigil/internal/store/contents"
	"omnivigil/internal/store/tree"
)

// Result is a good result of a task, as it is shared.
type Result struct {
	Version int               `json:"version"`
	Project string            `json:"project"`
	Unit    string            `json:"unit"`
	Key     string            `json:"key"`     // a hash of everything that it depends on
	Outputs string            `json:"outputs"` // a hash of what was made
	At      time.Time         `json:"at"`      // when the run ended
	Took    time.Duration     `json:"took"`    // nanoseconds
	Tree    tree.Tree         `json:"tree"`
	Told    []byte            `json:"told,omitempty"`  // its tests and findings
	Lines   *contents.Content `json:"lines,omitempty"` // its output, a JSON array
}

// version is that of the format of results.
const version = 1

// payloadType names the format of what is signed.
const payloadType = "application/vnd.omnivigil.result+json"

// envelope is a signed result: a DSSE envelope (https://github.com/secure-systems-lab/dsse, version 1.0.2).
type envelope struct {
	PayloadType string      `json:"payloadType"`
	Payload     []byte      `json:"payload"`
	Signatures  []signature `json:"signatures"`
}

type signature struct {
	KeyID string `json:"keyid"`
	Sig   []byte `json:"sig"`
}

// signed is what is signed: the pre-authentication encoding of DSSE.
func signed(payload []byte) []byte {
	return fmt.Appendf(nil, "DSSEv1 %d %s %d %s", len(payloadType), payloadType, len(payload), payload)
}

// KeyID identifies a public key.
func KeyID(public ed25519.PublicKey) string {
	sum := sha256.Sum256(public)
	return hex.EncodeToString(sum[:8])
}

// Seal returns a result as it is stored, signed by a key.
func Seal(r Result, by ed25519.PrivateKey) ([]byte, error) {
	r.Version = version
	payload, err := json.Marshal(r)
	if err != nil {
		return nil, err
	}
	public := by.Public().(ed25519.PublicKey)
	return json.Marshal(envelope{
		PayloadType: payloadType, Payload: payload,
		Signatures: []signature{{KeyID(public), ed25519.Sign(by, signed(payload))}},
	})
}

// ErrUntrusted reports that no trusted key has signed a result.
var ErrUntrusted = errors.New("no key that you trust has signed it")

// Expected is the result that is asked for.
type Expected struct {
	Project, Unit, Key string
	// Covers returns an error if a tree has something that is not an output of the unit.
	Covers func(tree.Tree) error
}

// Open returns a result and the key that has signed it. It must be the one that is expected, and have only outputs of
// the unit that can be restored. ErrUntrusted: no trusted key has signed it.
func Open(data []byte, trusted Keys, expected Expected) (Result, Key, error) {
	var e envelope
	var r Result
	if err := json.Unmarshal(data, &e); err != nil {
		return r, Key{}, fmt.Errorf("it is no signed result: %w", err)
	}
	by, ok := e.signer(trusted)
	if !ok {
		return r, Key{}, ErrUntrusted
	}
	if err := json.Unmarshal(e.Payload, &r); err != nil {
		return r, by, fmt.Errorf("it is no result: %w", err)
	}
	switch {
	case r.Version != version:
		return r, by, fmt.Errorf("it has version %d of the format, and this program knows %d", r.Version, version)
	case r.Project != expected.Project || r.Unit != expected.Unit || r.Key != expected.Key:
		return r, by, errors.New("it is the result of another task, or of other inputs")
	}
	if err := errors.Join(r.Tree.Check(), expected.Covers(r.Tree)); err != nil {
		return r, by, err
	}
	if size := r.size(); r.Lines != nil && r.Lines.Size < 0 || size < 0 || size > maxContents {
		return r, by, errors.New("it is too large")
	}
	return r, by, nil
}

// signer returns a trusted key that has signed the payload.
func (e envelope) signer(trusted Keys) (Key, bool) {
	if e.PayloadType != payloadType {
		return Key{}, false
	}
	text := signed(e.Payload)
	for _, s := range e.Signatures {
		for _, k := range trusted {
			if KeyID(k.Public) == s.KeyID && ed25519.Verify(k.Public, text, s.Sig) {
				return k, true
			}
		}
	}
	return Key{}, false
}
