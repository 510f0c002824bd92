package mcp

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync"

	"github.com/modelcontextprotocol/go-sdk/jsonrpc"
)

// longestMessage limits a message of an assistant, in bytes.
const longestMessage = 4 << 20

// Error codes (JSON-RPC 2.0, section 5.1).
const (
	codeParse   = -32700
	codeRequest = -32600
)

// messages passes on messages, one a line, and answers an invalid line with an error: one invalid line should not end
// the connection, as it would in the library.
type messages struct {
	in  *bufio.Reader
	end func() error

	mu  sync.Mutex
	out io.Writer

	rest []byte // of the current message
}

func newMessages(in io.ReadCloser, out io.Writer) *messages {
	return &messages{in: bufio.NewReader(in), end: sync.OnceValue(in.Close), out: out}
}

// Read implements io.Reader. It blocks until a message arrives.
func (m *messages) Read(p []byte) (int, error) {
	for len(m.rest) == 0 {
		line, err := m.line()
		var bad *badMessage
		if errors.As(err, &bad) {
			if err = m.refuse(bad); err == nil {
				continue
			}
		}
		if err != nil {
			return 0, err
		}
		m.rest = line
	}
	n := copy(p, m.rest)
	m.rest = m.rest[n:]
	return n, nil
}

// badMessage is an invalid line.
type badMessage struct {
	code int
	why  string
}

func (b *badMessage) Error() string { return b.why }

// line reads the next message with its line end.
func (m *messages) line() ([]byte, error) {
	var line []byte
	tooLong := false
	for {
		part, err := m.in.ReadSlice('\n')
		if tooLong = tooLong || len(line)+len(part) > longestMessage; !tooLong {
			line = append(line, part...)
		}
		if errors.Is(err, bufio.ErrBufferFull) {
			continue
		}
		if err != nil && (!errors.Is(err, io.EOF) || len(line) == 0 && !tooLong) {
			return nil, err
		}
		break
	}
	switch line = bytes.TrimSpace(line); {
	case tooLong:
		return nil, &badMessage{codeRequest, fmt.Sprintf("the message is longer than %d bytes", longestMessage)}
	case len(line) == 0:
		return nil, nil
	case !json.Valid(line):
		return nil, &badMessage{codeParse, "the line is not JSON"}
	}
	all := []json.RawMessage{line}
	if line[0] == '[' { // a batch, from earlier versions of the protocol
		all = nil // the line's memory would be reused
		if err := json.Unmarshal(line, &all); err != nil || len(all) == 0 {
			return nil, &badMessage{codeRequest, "the batch has no messages"}
		}
	}
	for _, one := range all {
		if _, err := jsonrpc.DecodeMessage(one); err != nil {
			return nil, &badMessage{codeRequest, "the line is not a message of JSON-RPC 2.0: " + err.Error()}
		}
	}
	return append(line, '\n'), nil
}

// refuse answers an invalid message, whose id is unknown.
func (m *messages) refuse(b *badMessage) error {
	var answer struct {
		Version string          `json:"jsonrpc"`
		ID      json.RawMessage `json:"id"`
		Error   struct {
			Code    int    `json:"code"`
			Message string `json:"message"`
		} `json:"error"`
	}
	answer.Version, answer.ID, answer.Error.Code, answer.Error.Message = "2.0", json.RawMessage("null"), b.code, b.why
	data, err := json.Marshal(answer)
	if err == nil {
		_, err = m.Write(append(data, '\n'))
	}
	return err
}

// Write implements io.Writer. Each call writes whole messages.
func (m *messages) Write(p []byte) (int, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.out.Write(p)
}

// Close ends reading. It may be called again: the library closes both directions.
func (m *messages) Close() error { return m.end() }
