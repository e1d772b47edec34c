package web

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/json"
	"io"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"
)

// The incarnation under which central itself writes leaves central under another name, wherever it stands: in
// histories, marks and decisions. Nobody can write under it in any case; so nobody can even try.

// hidden gives a text in which central's own source has the name that others know it by.
func (s *Server) hidden(text []byte) []byte {
	if s.central == nil {
		return text
	}
	source := s.central.Source()
	mac := hmac.New(sha256.New, s.central.Secret())
	mac.Write(source[:])
	var shown uuid.UUID
	copy(shown[:], mac.Sum(nil))
	shown[6], shown[8] = shown[6]&0x0f|0x80, shown[8]&0x3f|0x80 // a UUID of version 8 (RFC 9562)
	return bytes.ReplaceAll(text, []byte(source.String()), []byte(shown.String()))
}

// format writes the answers of the API.
func (s *Server) format() huma.Format {
	return huma.Format{Unmarshal: json.Unmarshal, Marshal: func(w io.Writer, value any) error {
		var text bytes.Buffer
		encoder := json.NewEncoder(&text)
		encoder.SetEscapeHTML(false)
		if err := encoder.Encode(value); err != nil {
			return err
		}
		_, err := w.Write(s.hidden(text.Bytes()))
		return err
	}}
}
