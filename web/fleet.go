package web

import (
	"context"
	"net/http"
	"slices"
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
	type deviceOut struct {
		central.Device
		Reached    []past.Reached   `json:"reached" doc:"How far it has pulled each collection."`
		Unaccepted []past.Travelled `json:"unaccepted" doc:"The latest of its changes that were refused, or that wait, with the reasons; it may have mended them since."`
	}
	add(s, s.operation(http.MethodGet, "/v1/devices/{id}", "device", "One device: how far it is, and what central did not accept of it", signedIn),
		func(ctx context.Context, in *deviceIn) (*answer[deviceOut], error) {
			all, err := s.central.Devices(ctx, who(ctx).fleetOf())
			if err != nil {
				return nil, err
			}
			at := slices.IndexFunc(all, func(d central.Device) bool { return d.ID == in.ID })
			if at < 0 {
				return nil, fault.Fail(fault.NotFound, "there is no device %s", in.ID)
			}
			out := deviceOut{Device: all[at]}
			if out.Reached, err = s.central.Reached(ctx, in.ID); err != nil {
				return nil, err
			}
			const latest = 50
			out.Unaccepted, err = s.central.Unaccepted(ctx, who(ctx).Person, in.ID, latest)
			return &answer[deviceOut]{out}, err
		})
	type renameIn struct {
		ID   uuid.UUID `path:"id" format:"uuid"`
		Body struct {
			Name string `json:"name" minLength:"1" maxLength:"80"`
		}
	}
	add(s, s.operation(http.MethodPut, "/v1/devices/{id}/name", "rename-device",
		"Call a device otherwise; what it has sent keeps the name that it had", deviceLeads),
		func(ctx context.Context, in *renameIn) (*struct{}, error) {
			return nil, s.central.RenameDevice(ctx, in.ID, in.Body.Name)
		})
	type errandIn struct {
		ID   uuid.UUID `path:"id" format:"uuid"`
		What string    `path:"what" enum:"verify,erase"`
	}
	add(s, s.operation(http.MethodPut, "/v1/devices/{id}/errands/{what}", "ask-device",
		"Ask a device to do something with its next exchange: to compare what it holds with central, or to erase its store once all of it is accepted", deviceLeads),
		func(ctx context.Context, in *errandIn) (*answer[central.AskedErrand], error) {
			asked, err := s.central.Ask(ctx, in.ID, in.What)
			return &answer[central.AskedErrand]{asked}, err
		})
	add(s, s.operation(http.MethodDelete, "/v1/devices/{id}/errands/{what}", "stop-asking-device",
		"Take back what a device was asked to do", deviceLeads),
		func(ctx context.Context, in *errandIn) (*struct{}, error) {
			return nil, s.central.TakeBack(ctx, in.ID, in.What)
		})
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
		Device  uuid.UUID `query:"device" format:"uuid" doc:"Only exchanges of this device."`
		Worker  string    `query:"worker" maxLength:"80" doc:"Only exchanges of the devices of this worker."`
		Refused bool      `query:"refused" doc:"Only exchanges with changes that were refused or wait."`
		Before  time.Time `query:"before" doc:"Only exchanges that ended before: where an earlier page ended."`
		Limit   int       `query:"limit" minimum:"1" maximum:"500" default:"50"`
	}
	add(s, s.operation(http.MethodGet, "/v1/exchanges", "exchanges",
		"The latest exchanges; a worker sees those of their own devices", signedIn),
		func(ctx context.Context, in *exchangesIn) (*answer[[]central.Exchange], error) {
			of := past.ExchangesOf{Worker: in.Worker, Device: in.Device, Refused: in.Refused, Before: in.Before, Limit: in.Limit}
			if own := who(ctx).fleetOf(); own != "" {
				if of.Worker != "" && of.Worker != own {
					return &answer[[]central.Exchange]{[]central.Exchange{}}, nil
				}
				of.Worker = own
			}
			all, err := s.central.Exchanges(ctx, of)
			return &answer[[]central.Exchange]{all}, err
		})
}
