package fault

import (
	"database/sql/driver"
	"errors"
	"io"
	"net"

	"github.com/jackc/pgx/v5/pgconn"
)

// unreachable says whether an error comes of a database that cannot be reached, or that went away in the middle.
func unreachable(err error) bool {
	var connect *pgconn.ConnectError
	var network *net.OpError
	return errors.As(err, &connect) || errors.As(err, &network) || errors.Is(err, driver.ErrBadConn) ||
		errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) && err != nil || pgconn.SafeToRetry(err)
}
