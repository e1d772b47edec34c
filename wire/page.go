package wire

import (
	"encoding/json"
	"strconv"
	"time"
)

// AppendJSON writes the page as [json.Marshal] would, but takes fields and marks over as they are. They make up nearly all of
// a page and are JSON already; checking and compacting them again would cost more than reading them from the database.
func (p Page) AppendJSON(to []byte) []byte {
	to = append(to, `{"collection":`...)
	to = appendText(to, p.Collection)
	to = append(to, `,"records":[`...)
	for n, r := range p.Records {
		if n > 0 {
			to = append(to, ',')
		}
		to = r.appendJSON(to)
	}
	to = appendNumber(append(to, ']'), `,"cursor":`, p.Cursor)
	to = appendNumber(to, `,"head":`, p.Head)
	to = append(to, `,"more":`...)
	to = strconv.AppendBool(to, p.More)
	if p.Total != 0 {
		to = appendNumber(to, `,"total":`, p.Total)
	}
	return append(to, '}')
}

func (r Record) appendJSON(to []byte) []byte {
	to = append(to, `{"id":"`...)
	to = append(to, r.ID.String()...)
	to = appendNumber(to, `","revision":`, r.Revision)
	if r.Position != 0 {
		to = appendNumber(to, `,"position":`, r.Position)
	}
	if r.Removed {
		to = append(to, `,"removed":true`...)
	}
	if r.Withdrawn {
		to = append(to, `,"withdrawn":true`...)
	}
	if len(r.Fields) > 0 {
		to = append(append(to, `,"fields":`...), r.Fields...)
	}
	if len(r.Marks) > 0 {
		to = append(append(to, `,"marks":`...), r.Marks...)
	}
	to = append(to, `,"edited_at":"`...)
	to = r.EditedAt.AppendFormat(to, time.RFC3339Nano)
	to = append(to, `","received_at":"`...)
	to = append(r.ReceivedAt.AppendFormat(to, time.RFC3339Nano), '"')
	if r.Author != "" {
		to = appendText(append(to, `,"author":`...), r.Author)
	}
	if r.Device != "" {
		to = appendText(append(to, `,"device":`...), r.Device)
	}
	return append(to, '}')
}

func appendNumber(to []byte, key string, n int64) []byte {
	return strconv.AppendInt(append(to, key...), n, 10)
}

func appendText(to []byte, text string) []byte {
	quoted, err := json.Marshal(text)
	if err != nil {
		panic(err) // a text always marshals
	}
	return append(to, quoted...)
}
