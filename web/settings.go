package web

import (
	"context"
	"encoding/json"
	"net/http"

	"github.com/google/uuid"

	"homing/central/people"
	"homing/core/settings"
)

// SettingScope names the devices of which a setting is said. It is exported since the API description only looks into exported parts of a
// request.
type SettingScope struct {
	Name   string    `path:"name"`
	Team   string    `query:"team" maxLength:"60" doc:"A team. Where neither this nor device is given, all devices are meant."`
	Device uuid.UUID `query:"device" format:"uuid" doc:"One device."`
}

func (s SettingScope) scope() people.Scope { return people.Scope{Team: s.Team, Device: s.Device} }

func (s *Server) registerSettings() {
	type out struct {
		Settings []people.Said      `json:"settings"`
		Known    []settings.Setting `json:"known" doc:"What may be set."`
	}
	add(s, s.operation(http.MethodGet, "/v1/settings", "settings",
		"What is said of how devices behave, and how many of them go by it", deviceLeads),
		func(ctx context.Context, _ *nothing) (*answer[out], error) {
			all, err := s.central.Settings(ctx)
			return &answer[out]{out{all, settings.All}}, err
		})
	type setIn struct {
		SettingScope
		Body struct {
			Value json.RawMessage `json:"value" doc:"As the setting takes it."`
			Share int             `json:"share,omitempty" minimum:"1" maximum:"100" default:"100" doc:"Percent of the devices that it goes to first; the others keep what they had. The same value with another share goes on to more of them."`
		}
	}
	op := s.operation(http.MethodPut, "/v1/settings/{name}", "set-setting",
		"Say how devices are to behave; they go by it with their next exchange", deviceLeads)
	op.Errors = append(op.Errors, http.StatusNotFound)
	add(s, op, func(ctx context.Context, in *setIn) (*struct{}, error) {
		share := in.Body.Share
		if share == 0 {
			share = 100
		}
		return nil, s.central.Set(ctx, in.scope(), in.Name, in.Body.Value, share)
	})
	op = s.operation(http.MethodDelete, "/v1/settings/{name}", "remove-setting", "Take back what was said", deviceLeads)
	op.Errors = append(op.Errors, http.StatusNotFound)
	add(s, op, func(ctx context.Context, in *SettingScope) (*struct{}, error) {
		return nil, s.central.Unset(ctx, in.scope(), in.Name)
	})
	type teamsIn struct {
		ID   uuid.UUID `path:"id" format:"uuid"`
		Body struct {
			Teams []string `json:"teams" maxItems:"20"`
		}
	}
	op = s.operation(http.MethodPut, "/v1/devices/{id}/teams", "put-in-teams", "Say which teams a device is in", deviceLeads)
	op.Errors = append(op.Errors, http.StatusNotFound)
	add(s, op, func(ctx context.Context, in *teamsIn) (*struct{}, error) {
		return nil, s.central.PutInTeams(ctx, in.ID, in.Body.Teams)
	})
}
