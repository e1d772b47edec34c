package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"homing/central"
	"homing/central/people"
	"homing/core/rights"
)

// WorkerPath names one worker. It is exported since the API description only looks into exported parts of a request.
type WorkerPath struct {
	Name string `path:"name" maxLength:"80"`
}

func (s *Server) registerWorkers() {
	type workersIn struct {
		Removed bool `query:"removed" doc:"Also those whose account is gone."`
	}
	add(s, s.operation(http.MethodGet, "/v1/workers", "workers", "All workers", workerAdmins),
		func(ctx context.Context, in *workersIn) (*answer[[]central.Worker], error) {
			all, err := s.central.Workers(ctx, in.Removed)
			return &answer[[]central.Worker]{all}, err
		})
	type workerIn struct {
		Body struct {
			Name        string      `json:"name"`
			Role        rights.Role `json:"role" enum:"reader,worker,lead,admin"`
			Password    string      `json:"password,omitempty" doc:"10 to 200 characters, none of the commonest. Without one, the worker can own devices but not sign in."`
			Territories []string    `json:"territories,omitempty" doc:"Those that the worker holds; all when left out, and none when empty."`
		}
	}
	op := s.operation(http.MethodPost, "/v1/workers", "add-worker", "Add a worker", workerAdmins)
	op.DefaultStatus = http.StatusCreated
	op.Errors = append(op.Errors, http.StatusConflict)
	add(s, op, func(ctx context.Context, in *workerIn) (*struct{}, error) {
		return nil, s.central.AddWorker(ctx, in.Body.Name, in.Body.Role, in.Body.Password, in.Body.Territories...)
	})

	// change registers something that is done to one worker.
	change := func(method, path, id, summary string) huma.Operation {
		op := s.operation(method, "/v1/workers/{name}"+path, id, summary, workerAdmins)
		op.Errors = append(op.Errors, http.StatusConflict)
		return op
	}
	type roleIn struct {
		WorkerPath
		Body struct {
			Role rights.Role `json:"role" enum:"reader,worker,lead,admin"`
		}
	}
	add(s, change(http.MethodPut, "/role", "set-role", "Give a worker another role"),
		func(ctx context.Context, in *roleIn) (*struct{}, error) {
			return nil, s.central.SetRole(ctx, in.Name, in.Body.Role)
		})
	type passwordIn struct {
		WorkerPath
		Body struct {
			Password string `json:"password" maxLength:"200" doc:"10 to 200 characters, none of the commonest; empty takes it away."`
		}
	}
	add(s, change(http.MethodPut, "/password", "set-password", "Give a worker another password, and end their sign-ins"),
		func(ctx context.Context, in *passwordIn) (*struct{}, error) {
			return nil, s.central.SetPassword(ctx, in.Name, in.Body.Password)
		})
	type shutIn struct {
		WorkerPath
		Deliver bool `query:"deliver" doc:"What their devices have queued is taken all the same."`
	}
	add(s, change(http.MethodPost, "/disabling", "disable-worker",
		"Shut a worker out: their sign-ins and codes end, their devices get nothing"),
		func(ctx context.Context, in *shutIn) (*struct{}, error) {
			return nil, s.central.Disable(ctx, in.Name, in.Deliver)
		})
	add(s, change(http.MethodDelete, "/disabling", "enable-worker", "Let a worker in again who was disabled"),
		func(ctx context.Context, in *WorkerPath) (*struct{}, error) {
			return nil, s.central.Enable(ctx, in.Name)
		})
	add(s, change(http.MethodDelete, "", "remove-worker", "Take an account away for good; records and history keep the name"),
		func(ctx context.Context, in *shutIn) (*struct{}, error) {
			return nil, s.central.Remove(ctx, in.Name, in.Deliver)
		})
	add(s, change(http.MethodPost, "/admission", "admit-worker",
		"Let a worker in who was added while central was open to everybody"),
		func(ctx context.Context, in *WorkerPath) (*struct{}, error) {
			return nil, s.central.Admit(ctx, in.Name)
		})
	add(s, s.operation(http.MethodGet, "/v1/workers/{name}/reach", "reach",
		"What a worker gets of each collection, and may do with it", workerAdmins),
		func(ctx context.Context, in *WorkerPath) (*answer[central.Reach], error) {
			reach, err := s.central.ReachOf(ctx, in.Name)
			return &answer[central.Reach]{reach}, err
		})
	type deviceIn struct {
		ID uuid.UUID `path:"id" format:"uuid"`
	}
	add(s, s.operation(http.MethodPost, "/v1/devices/{id}/admission", "admit-device",
		"Let a device in that was enrolled while central was open to everybody", workerAdmins),
		func(ctx context.Context, in *deviceIn) (*struct{}, error) {
			return nil, s.central.AdmitDevice(ctx, in.ID)
		})

	type auditIn struct {
		About  string `query:"about" maxLength:"80" doc:"Only what one worker, or a device by its id, did or had done to them."`
		Before int64  `query:"before" minimum:"0" doc:"Only lines before this place."`
		Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	}
	add(s, s.operation(http.MethodGet, "/v1/audit", "audit",
		"Who did what to workers, sign-ins, codes and devices, the latest first", workerAdmins),
		func(ctx context.Context, in *auditIn) (*answer[[]people.Done], error) {
			all, err := s.central.Audit(ctx, in.About, in.Before, in.Limit)
			return &answer[[]people.Done]{all}, err
		})
}
