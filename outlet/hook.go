package outlet

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"homing/feed"
)

// hook posts each record as a CloudEvent (CloudEvents 1.0, JSON format), signed as the open specification Standard Webhooks 1.0 has it.
type hook struct {
	url    string
	feed   string
	source string
	key    []byte
	client *http.Client
	now    func() time.Time
}

// hookPatience is how long a receiver may take.
const hookPatience = 20 * time.Second

func openHook(to feed.Hook, name string, options Options) (*hook, error) {
	secret, err := options.Secret(to.Secret)
	if err != nil {
		return nil, err
	}
	return &hook{url: to.URL, feed: name, source: options.Source, key: SigningKey(secret), now: time.Now,
		client: &http.Client{Timeout: hookPatience,
			// What is signed for one address is not handed to another.
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}, nil
}

// SigningKey is the key of a secret: what stands behind whsec_ in base64, or the text itself.
func SigningKey(secret string) []byte {
	if text, is := strings.CutPrefix(secret, "whsec_"); is {
		if key, err := base64.StdEncoding.DecodeString(text); err == nil {
			return key
		}
	}
	return []byte(secret)
}

// Sign is the signature over an id, a time in seconds and a body.
func Sign(key []byte, id, at string, body []byte) string {
	mac := hmac.New(sha256.New, key)
	fmt.Fprintf(mac, "%s.%s.", id, at)
	mac.Write(body)
	return "v1," + base64.StdEncoding.EncodeToString(mac.Sum(nil))
}

// Event is a CloudEvent about a record.
type Event struct {
	SpecVersion string    `json:"specversion"`
	ID          string    `json:"id"`     // the same whenever it comes again, but for a round over everything
	Source      string    `json:"source"` // central's database
	Type        string    `json:"type"`
	Subject     string    `json:"subject"`
	Time        time.Time `json:"time"`
	ContentType string    `json:"datacontenttype"`
	Data        EventData `json:"data"`
}

// EventData is what an event says of a record.
type EventData struct {
	Collection string                     `json:"collection"`
	Record     string                     `json:"record"`
	Revision   int64                      `json:"revision"`
	Author     string                     `json:"author"`
	Values     map[string]json.RawMessage `json:"values,omitempty"`
}

// The types of events.
const (
	EventThere = "homing.record.there" // it is there, as the event says
	EventGone  = "homing.record.gone"  // it was removed, or does not belong to the feed any more
)

func (h *hook) event(round int, item feed.Item) Event {
	kind := EventThere
	if item.Gone {
		kind = EventGone
	}
	subject := item.Collection + "/" + item.Record.String()
	return Event{SpecVersion: "1.0", ID: fmt.Sprintf("%s/%d/%d/%s", subject, round, item.Revision, kind[strings.LastIndex(kind, ".")+1:]), Source: "urn:uuid:" + h.source, Type: kind,
		Subject: subject, Time: item.EditedAt.UTC(), ContentType: "application/json",
		Data: EventData{item.Collection, item.Record.String(), item.Revision, item.Author, item.Values}}
}

func (h *hook) Ready(context.Context, map[string]*feed.Shaped) error { return nil }

// Deliver is [Outlet.Deliver]. Where a receiver breaks down over one item, the next is tried: if that goes through and the first fails once more,
// the first is set aside; otherwise the receiver is in trouble, and all wait.
func (h *hook) Deliver(ctx context.Context, batch Batch) (done int, refused []Refusal, err error) {
	for done < len(batch.Items) {
		status, err := h.post(ctx, batch.Round, batch.Items[done])
		switch {
		case err == nil:
			done++
			continue
		case refuses(status):
			refused = append(refused, Refusal{done, err.Error()})
			done++
			continue
		case status != http.StatusInternalServerError || done+1 >= len(batch.Items):
			return done, refused, err
		}
		nextStatus, next := h.post(ctx, batch.Round, batch.Items[done+1])
		if next != nil && !refuses(nextStatus) {
			return done, refused, err
		}
		if _, again := h.post(ctx, batch.Round, batch.Items[done]); again != nil {
			refused = append(refused, Refusal{done, err.Error()})
		}
		if next != nil {
			refused = append(refused, Refusal{done + 1, next.Error()})
		}
		done += 2
	}
	return done, refused, nil
}

// refuses says whether an answer is about what was sent, and not about who asks or how the receiver is.
func refuses(status int) bool {
	switch status {
	case http.StatusBadRequest, http.StatusConflict, http.StatusGone, http.StatusRequestEntityTooLarge, http.StatusUnsupportedMediaType, http.StatusUnprocessableEntity:
		return true
	}
	return false
}

func (h *hook) post(ctx context.Context, round int, item feed.Item) (status int, err error) {
	event := h.event(round, item)
	body, err := json.Marshal(event)
	if err != nil {
		return 0, err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, h.url, bytes.NewReader(body))
	if err != nil {
		return 0, setUp("the address %s: %v", h.url, err)
	}
	at := strconv.FormatInt(h.now().Unix(), 10)
	request.Header.Set("Content-Type", "application/cloudevents+json; charset=utf-8")
	request.Header.Set("Webhook-Id", event.ID)
	request.Header.Set("Webhook-Timestamp", at)
	request.Header.Set("Webhook-Signature", Sign(h.key, event.ID, at, body))
	response, err := h.client.Do(request)
	if err != nil {
		var about interface{ Unwrap() error }
		if errors.As(err, &about) {
			err = about.Unwrap()
		}
		return 0, fmt.Errorf("%s cannot be reached: %w", request.URL.Host, err)
	}
	defer response.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(response.Body, 300)) // what it says is for people
	switch {
	case response.StatusCode/100 == 2:
		return response.StatusCode, nil
	case response.StatusCode/100 == 3:
		return response.StatusCode, setUp("%s answers %s and sends elsewhere; write the address that takes events into the feed", request.URL.Host, response.Status)
	case response.StatusCode == http.StatusUnauthorized || response.StatusCode == http.StatusForbidden:
		return response.StatusCode, setUp("%s answers %s; look at whether both sides have the same secret", request.URL.Host, response.Status)
	}
	return response.StatusCode, fmt.Errorf("%s answers %s: %s", request.URL.Host, response.Status, strings.TrimSpace(strings.ToValidUTF8(string(said), "?")))
}

func (h *hook) Close() error {
	h.client.CloseIdleConnections()
	return nil
}
