package dberror

import (
	"database/sql/driver"
	"errors"
	"io"
	"net"
	"slices"
	"syscall"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/trinodb/trino-go-client/trino"
)

// enginePasses are the errors of Trino that may be gone after a while: a server that starts or stops, a worker that is lost.
var enginePasses = []string{"SERVER_STARTING_UP", "SERVER_SHUTTING_DOWN", "NO_NODES_AVAILABLE", "REMOTE_HOST_GONE", "REMOTE_TASK_ERROR", "REMOTE_TASK_MISMATCH",
	"PAGE_TRANSPORT_ERROR", "PAGE_TRANSPORT_TIMEOUT", "TOO_MANY_REQUESTS_FAILED", "CLUSTER_OUT_OF_MEMORY"}

// Passing reports whether an error may be gone by itself after a while: a connection that was lost or refused, a server
// that starts or stops, a lock that somebody else has.
func Passing(err error) bool {
	var server *pgconn.PgError
	var words *pgconn.ConnectError
	var other *mysql.MySQLError
	var network net.Error
	var engine *trino.ErrTrino
	var answer *trino.ErrQueryFailed
	switch {
	case err == nil:
		return false
	case errors.As(err, &server): // see "PostgreSQL Error Codes" in its documentation
		class := server.Code[:min(2, len(server.Code))]
		return class == "08" || slices.Contains([]string{"40001", "40P01", "53300", "55P03", "57P01", "57P02", "57P03"}, server.Code)
	case errors.As(err, &other): // lock wait timeout, deadlock, too many connections, server shutdown
		return slices.Contains([]uint16{1205, 1213, 1040, 1053}, other.Number)
	case errors.As(err, &engine): // see its StandardErrorCode
		return slices.Contains(enginePasses, engine.ErrorName)
	case errors.As(err, &answer) && (answer.StatusCode == 502 || answer.StatusCode == 503 || answer.StatusCode == 504):
		return true
	case errors.As(err, &words), errors.As(err, &network), errors.Is(err, ErrBusy), errors.Is(err, driver.ErrBadConn), errors.Is(err, mysql.ErrInvalidConn):
		return true
	}
	for _, lost := range []error{io.ErrUnexpectedEOF, net.ErrClosed, syscall.ECONNRESET, syscall.ECONNREFUSED, syscall.EPIPE} {
		if errors.Is(err, lost) {
			return true
		}
	}
	return pgconn.SafeToRetry(err)
}
