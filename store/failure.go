package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"io"
	"net"
	"net/netip"
	"slices"
	"strings"

	"github.com/go-sql-driver/mysql"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// ErrRefused is returned where the database is there and does not take what is to be written: to try again is of no use.
var ErrRefused = errors.New("the database does not take it")

// IsAway reports whether a failure comes of a database that is not to be reached, or that cannot do its work for now: it is
// worth trying again.
func IsAway(err error) bool {
	var server *mysql.MySQLError
	var network net.Error
	switch {
	case err == nil, isRefused(err):
		return false
	case errors.As(err, &server):
		return true // of the class of its own state: locks, a full disk, a server that is going down
	case errors.As(err, &network), errors.Is(err, driver.ErrBadConn), errors.Is(err, mysql.ErrInvalidConn), errors.Is(err, sql.ErrConnDone), errors.Is(err, errImpostor):
		return true
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, context.DeadlineExceeded), errors.Is(err, context.Canceled):
		return true
	}
	// The pool says in words alone that it has been closed.
	return strings.Contains(err.Error(), "sql: database is closed")
}

// refusedClasses are the classes of SQLSTATE (ISO/IEC 9075-2, 24.1) that say that a statement or its data is at fault: data,
// constraints, and syntax or access.
var refusedClasses = []string{"22", "23", "42"}

func isRefused(err error) bool {
	if errors.Is(err, ErrRefused) || errors.Is(err, mysql.ErrPktTooLarge) || errors.Is(err, gorm.ErrForeignKeyViolated) || errors.Is(err, gorm.ErrDuplicatedKey) {
		return true
	}
	var server *mysql.MySQLError
	return errors.As(err, &server) && slices.Contains(refusedClasses, string(server.SQLState[:2]))
}

// fit cuts a text to what a column takes, in bytes and whole characters.
func fit(text string, most int) string {
	if len(text) <= most {
		return text
	}
	return strings.ToValidUTF8(text[:most], "")
}

// batchBytes is about how much goes into one statement; a server takes 16 MiB by default (max_allowed_packet).
const batchBytes = 4 << 20

// batches parts rows into statements of at most batchSize rows and about batchBytes.
func batches[T any](rows []T, size func(T) int) [][]T {
	var parts [][]T
	start, bytes := 0, 0
	for i, row := range rows {
		n := size(row)
		if i > start && (i-start >= batchSize || bytes+n > batchBytes) {
			parts = append(parts, rows[start:i:i])
			start, bytes = i, 0
		}
		bytes += n
	}
	if start < len(rows) {
		parts = append(parts, rows[start:])
	}
	return parts
}

// upsertAll writes a row over the one that has its key.
var upsertAll = clause.OnConflict{UpdateAll: true}

// createMany writes new rows.
func createMany[T any](tx *gorm.DB, rows []T) error {
	if len(rows) == 0 {
		return nil
	}
	return tx.CreateInBatches(rows, batchSize).Error
}

// createManyOver writes rows over those that have their keys.
func createManyOver[T any](tx *gorm.DB, rows []T, size func(T) int) error {
	for _, part := range batches(rows, size) {
		if err := tx.Clauses(upsertAll).Create(part).Error; err != nil {
			return err
		}
	}
	return nil
}

// addrsText writes addresses with a space between them.
func addrsText(addrs []netip.Addr) string {
	texts := make([]string, len(addrs))
	for i, a := range addrs {
		texts[i] = a.String()
	}
	return strings.Join(texts, " ")
}
