package web

import (
	"context"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"homing/core/rights"
)

// register adds every operation. The order is that of the API's description.
func (s *Server) register() {
	s.registerExchange()
	s.registerRecords()
	s.registerFleet()
	s.registerPeople()
	s.registerWorkers()
	s.registerSignIns()
	s.registerTerritories()
	s.registerLive()
	s.registerHealth()
	s.registerFollowUps()
	s.registerCoverage()
	s.registerSettings()
	s.registerFeatures()
	s.registerFeeds()
	s.registerRehearsal()
}

var (
	anyone       = access{anyone: true}
	signedIn     = access{}
	inPerson     = access{session: true}
	listeners    = access{either: true, long: true}
	devices      = access{device: true}
	pullers      = access{device: true, long: true}
	deliverers   = access{device: true, revoked: true}
	readers      = access{right: rights.ReadRecords}
	loaders      = access{right: rights.ReadRecords, either: true}
	editors      = access{right: rights.ChangeRecords}
	enrollers    = access{right: rights.EnrolDevices}
	deviceLeads  = access{right: rights.ManageDevices}
	workerAdmins = access{right: rights.ManageWorkers}
	definers     = access{right: rights.Define}
)

// operation describes one operation: who may call it, and what it is called in the description.
func (s *Server) operation(method, path, id, summary string, need access) huma.Operation {
	op := huma.Operation{Method: method, Path: path, OperationID: id, Summary: summary,
		Metadata:    map[string]any{accessKey: need},
		Middlewares: huma.Middlewares{s.guard}, MaxBodyBytes: s.options.MaxBodyBytes, BodyReadTimeout: bodyPatience,
		Errors: []int{http.StatusBadRequest, http.StatusTooManyRequests, http.StatusServiceUnavailable}}
	if !need.anyone {
		op.Security = []map[string][]string{{"token": {}}, {"session": {}}}
		op.Errors = append(op.Errors, http.StatusUnauthorized, http.StatusForbidden)
	} else if method == http.MethodPost { // it takes a password or a code
		op.Errors = append(op.Errors, http.StatusUnauthorized)
	}
	if strings.Contains(path, "{") { // what the path names may not be there
		op.Errors = append(op.Errors, http.StatusNotFound)
	}
	return op
}

// add registers an operation whose errors are central's.
func add[I, O any](s *Server, op huma.Operation, handle func(context.Context, *I) (*O, error)) {
	huma.Register(s.api, op, func(ctx context.Context, in *I) (*O, error) {
		out, err := handle(ctx, in)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		return out, nil
	})
}

// answer is a JSON body.
type answer[T any] struct{ Body T }

type nothing struct{}
