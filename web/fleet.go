package web

import (
	"context"
	"net/http"
	"time"

	"github.com/google/uuid"

	"homing/central"
	"homing/central/fault"
	"homing/central/past"
	"homing/internal/qr"
	"homing/wire"
)

func (s *Server) registerFleet() {
	add(s, s.operation(http.MethodGet, "/v1/devices", "devices",
		"Devices and what they last did; a worker sees their own", signedIn),
		func(ctx context.Context, _ *nothing) (*answer[[]central.Device], error) {
			all, err := s.central.Devices(ctx, who(ctx).fleetOf())
			return &answer[[]central.Device]{all}, err
		})

	type deviceIn struct {
		ID uuid.UUID `path:"id" format:"uuid"`
	}
	op := s.operation(http.MethodPost, "/v1/devices/{id}/revocation", "revoke-device",
		"Revoke a device: it can no longer push or pull", deviceLeads)
	type revokeIn struct {
		ID      uuid.UUID `path:"id" format:"uuid"`
		Deliver bool      `query:"deliver" doc:"The device may still send what it has queued."`
	}
	add(s, op, func(ctx context.Context, in *revokeIn) (*struct{}, error) {
		return nil, s.central.Revoke(ctx, in.ID, true, in.Deliver)
	})
	op = s.operation(http.MethodDelete, "/v1/devices/{id}/revocation", "readmit-device", "Take a revocation back",
		deviceLeads)
	add(s, op, func(ctx context.Context, in *deviceIn) (*struct{}, error) {
		return nil, s.central.Revoke(ctx, in.ID, false, false)
	})
	type leaveIn struct {
		ID     uuid.UUID `path:"id" format:"uuid"`
		Worker string    `path:"worker"`
	}
	op = s.operation(http.MethodDelete, "/v1/devices/{id}/people/{worker}", "leave-device",
		"Take a further worker off a shared device", deviceLeads)
	add(s, op, func(ctx context.Context, in *leaveIn) (*struct{}, error) {
		return nil, s.central.Leave(ctx, in.ID, in.Worker)
	})

	type codeIn struct {
		Body struct {
			Worker  string `json:"worker,omitempty" doc:"Who the device will belong to; the asker when left out."`
			Central string `json:"central,omitempty" maxLength:"500" doc:"The address under which the device reaches central; with it, the answer holds a link and its QR code."`
			Minutes int    `json:"minutes,omitempty" minimum:"1" maximum:"43200" doc:"How long the code can be used; two days when left out."`
		}
	}
	type codeOut struct {
		Code      string    `json:"code" doc:"Shown this once; central keeps only its hash."`
		Worker    string    `json:"worker"`
		ExpiresAt time.Time `json:"expires_at"`
		Link      string    `json:"link,omitempty" doc:"Address and code in one, for homing local enrol."`
		Picture   string    `json:"picture,omitempty" doc:"The link as a QR code: an SVG image as a data URI."`
	}
	op = s.operation(http.MethodPost, "/v1/codes", "issue-code", "Issue a one-time code that enrols a device", enrollers)
	op.DefaultStatus = http.StatusCreated
	op.Errors = append(op.Errors, http.StatusNotFound)
	add(s, op, func(ctx context.Context, in *codeIn) (*answer[codeOut], error) {
		worker := in.Body.Worker
		if worker == "" {
			worker = who(ctx).Name
		}
		if in.Body.Central != "" {
			if _, err := wire.EnrolmentLink(in.Body.Central, ""); err != nil {
				return nil, fault.Fail(fault.Invalid, "%v", err)
			}
		}
		code, expires, err := s.central.IssueCode(ctx, who(ctx).Person, worker, time.Duration(in.Body.Minutes)*time.Minute)
		if err != nil {
			return nil, err
		}
		got := codeOut{Code: code, Worker: worker, ExpiresAt: expires}
		if in.Body.Central != "" {
			if got.Link, err = wire.EnrolmentLink(in.Body.Central, code); err != nil {
				return nil, err
			}
			if got.Picture, err = qr.Picture(got.Link); err != nil {
				return nil, err
			}
		}
		return &answer[codeOut]{got}, nil
	})

	type exchangeIn struct {
		Exchange string `path:"exchange" doc:"Id of the exchange, or the start or end of one."`
		Limit    int    `query:"limit" minimum:"1" maximum:"10000" default:"500" doc:"Most changes and records."`
	}
	op = s.operation(http.MethodGet, "/v1/exchanges/{exchange}", "exchange",
		"An exchange with each change and record that it carried", signedIn)
	op.Errors = append(op.Errors, http.StatusConflict)
	add(s, op, func(ctx context.Context, in *exchangeIn) (*answer[past.ExchangeDetail], error) {
		detail, err := s.central.ExchangeDetail(ctx, who(ctx).Person, who(ctx).fleetOf(), in.Exchange, in.Limit)
		return &answer[past.ExchangeDetail]{detail}, err
	})

	type exchangesIn struct {
		Limit int `query:"limit" minimum:"1" maximum:"500" default:"50"`
	}
	add(s, s.operation(http.MethodGet, "/v1/exchanges", "exchanges",
		"The latest exchanges; a worker sees those of their own devices", signedIn),
		func(ctx context.Context, in *exchangesIn) (*answer[[]central.Exchange], error) {
			all, err := s.central.Exchanges(ctx, who(ctx).fleetOf(), in.Limit)
			return &answer[[]central.Exchange]{all}, err
		})
}
