package store

import (
	"bufio"
	"cmp"
	"compress/gzip"
	"context"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"
)

// backupVersion is the version of the form of backups that is written and read. docs/backup.md documents it.
const backupVersion = 1

// ErrBackup is returned where a backup cannot be read.
var ErrBackup = errors.New("the backup cannot be read")

// tablesOf gives the tables that a backup has: all there are, but for that in which it stands how far the tables themselves have come.
func tablesOf(tx *gorm.DB) (tables []string, err error) {
	err = tx.Raw("SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_TYPE = 'BASE TABLE' AND TABLE_NAME <> 'migrations' ORDER BY TABLE_NAME").Scan(&tables).Error
	return tables, err
}

// backupHead is the first line of a backup.
type backupHead struct {
	Airdrift struct {
		Holds   string    `json:"holds"` // backup
		Version int       `json:"version"`
		Tables  string    `json:"tables"` // the last migration
		At      time.Time `json:"at"`
	} `json:"airdrift"`
}

// backupLine is any other line: a table begins, a row of it, or the end.
type backupLine struct {
	Table   string    `json:"table,omitempty"`
	Columns []string  `json:"columns,omitempty"`
	Row     []*string `json:"row,omitempty"` // base64, null for NULL
	Rows    *int      `json:"rows,omitempty"`
}

// Backup writes all that is stored, as it is at one moment, to out: JSON Lines, compressed by gzip. Others go on meanwhile.
func (s *Store) Backup(ctx context.Context, out io.Writer) error {
	packed := gzip.NewWriter(out)
	lines := json.NewEncoder(packed)
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var head backupHead
		head.Airdrift.Holds, head.Airdrift.Version, head.Airdrift.At = "backup", backupVersion, time.Now().UTC()
		if err := tx.Raw("SELECT MAX(id) FROM migrations").Scan(&head.Airdrift.Tables).Error; err != nil {
			return err
		}
		if err := lines.Encode(head); err != nil {
			return err
		}
		tables, err := tablesOf(tx)
		if err != nil {
			return err
		}
		total := 0
		for _, table := range tables {
			n, err := backupTable(tx, lines, table)
			if err != nil {
				return fmt.Errorf("table %s: %w", table, err)
			}
			total += n
		}
		return lines.Encode(backupLine{Rows: &total})
	}, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	if err == nil {
		err = packed.Close()
	}
	return own(err, "backup")
}

func backupTable(tx *gorm.DB, lines *json.Encoder, table string) (int, error) {
	rows, err := tx.Raw("SELECT * FROM " + table).Rows()
	if err != nil {
		return 0, err
	}
	columns, err := rows.Columns()
	if err != nil {
		return 0, closing(rows, err)
	}
	if err := lines.Encode(backupLine{Table: table, Columns: columns}); err != nil {
		return 0, closing(rows, err)
	}
	values, into := make([]any, len(columns)), make([]any, len(columns))
	for i := range values {
		into[i] = &values[i]
	}
	n := 0
	for ; rows.Next(); n++ {
		if err := rows.Scan(into...); err != nil {
			return n, closing(rows, err)
		}
		row := make([]*string, len(columns))
		for i, v := range values {
			var raw []byte
			switch v := v.(type) {
			case nil:
				continue
			case []byte:
				raw = v
			case time.Time:
				raw = []byte(v.UTC().Format("2006-01-02 15:04:05.000000"))
			default: // a number
				raw = fmt.Append(nil, v)
			}
			text := base64.StdEncoding.EncodeToString(raw)
			row[i] = &text
		}
		if err := lines.Encode(backupLine{Row: row}); err != nil {
			return n, closing(rows, err)
		}
	}
	return n, closing(rows, rows.Err())
}

// Restore fills a database that holds nothing yet with a backup, all or nothing.
func (s *Store) Restore(ctx context.Context, in io.Reader) error {
	err := s.db.WithContext(ctx).Connection(func(db *gorm.DB) error {
		// Within one connection, as the setting is of it.
		if err := db.Exec("SET FOREIGN_KEY_CHECKS = 0, UNIQUE_CHECKS = 0").Error; err != nil {
			return err
		}
		defer db.Exec("SET FOREIGN_KEY_CHECKS = 1, UNIQUE_CHECKS = 1")
		return db.Transaction(func(tx *gorm.DB) error {
			for _, table := range []string{"sites", "users", "sweeps"} {
				var n int64
				if err := tx.Table(table).Count(&n).Error; err != nil {
					return err
				}
				if n > 0 {
					return errors.New("the database is in use already: a backup is restored into an empty one")
				}
			}
			return restore(tx, in)
		})
	})
	return own(err, "backup")
}

// maxBackupLine is the longest line of a backup, in bytes: the longest columns hold 16 MiB.
const maxBackupLine = 64 << 20

func restore(tx *gorm.DB, in io.Reader) error {
	unpacked, err := gzip.NewReader(in)
	if err != nil {
		return fmt.Errorf("%w: it is not compressed by gzip, as backups are: %w", ErrBackup, err)
	}
	lines := bufio.NewScanner(unpacked)
	lines.Buffer(make([]byte, 64<<10), maxBackupLine)
	next := func(into any) error {
		if !lines.Scan() {
			return cmp.Or(lines.Err(), io.ErrUnexpectedEOF)
		}
		return json.Unmarshal(lines.Bytes(), into)
	}
	var head backupHead
	if err := next(&head); err != nil || head.Airdrift.Holds != "backup" {
		return fmt.Errorf("%w: its first line does not say that it is a backup", ErrBackup)
	}
	if head.Airdrift.Version != backupVersion {
		return fmt.Errorf("%w: it is of version %d, and this program reads %d", ErrBackup, head.Airdrift.Version, backupVersion)
	}
	var own string
	if err := tx.Raw("SELECT MAX(id) FROM migrations").Scan(&own).Error; err != nil {
		return err
	}
	if own != head.Airdrift.Tables {
		return fmt.Errorf("%w: its tables are of version %s, and those of this program of %s: restore it with the version of airdrift that wrote it, and then go on with a newer one", ErrBackup, head.Airdrift.Tables, own)
	}
	r := &restorer{tx: tx}
	if r.tables, err = tablesOf(tx); err != nil {
		return err
	}
	for {
		var line backupLine
		if err := next(&line); err != nil {
			return fmt.Errorf("%w: it ends, or is damaged, behind row %d of the table %s: %w", ErrBackup, r.total, r.table, err)
		}
		done, err := r.take(line)
		if err != nil || done {
			return err
		}
	}
}

// restorer writes rows, several at a time.
type restorer struct {
	tx      *gorm.DB
	tables  []string // there are
	table   string
	columns []string
	rows    []any // the values of the rows that wait
	waiting int
	bytes   int
	total   int
}

func (r *restorer) take(line backupLine) (done bool, err error) {
	switch {
	case line.Rows != nil:
		if *line.Rows != r.total {
			return false, fmt.Errorf("%w: it has %d rows, and was written with %d", ErrBackup, r.total, *line.Rows)
		}
		return true, r.flush()
	case line.Table != "":
		if !slices.Contains(r.tables, line.Table) {
			return false, fmt.Errorf("%w: there is no table %q", ErrBackup, line.Table)
		}
		if err := r.flush(); err != nil {
			return false, err
		}
		return false, r.begin(line)
	case r.table == "" || len(line.Row) != len(r.columns):
		return false, fmt.Errorf("%w: row %d does not fit the table %s", ErrBackup, r.total, r.table)
	}
	for _, value := range line.Row {
		if value == nil {
			r.rows = append(r.rows, nil)
			continue
		}
		raw, err := base64.StdEncoding.DecodeString(*value)
		if err != nil {
			return false, fmt.Errorf("%w: row %d of the table %s: %w", ErrBackup, r.total, r.table, err)
		}
		r.rows, r.bytes = append(r.rows, raw), r.bytes+len(raw)
	}
	r.waiting++
	r.total++
	if r.waiting == batchSize || r.bytes > batchBytes {
		return false, r.flush()
	}
	return false, nil
}

// begin begins a table. What the migrations have put there goes; the columns must be the table's own.
func (r *restorer) begin(line backupLine) error {
	rows, err := r.tx.Raw("SELECT * FROM " + line.Table + " LIMIT 0").Rows()
	if err != nil {
		return err
	}
	columns, err := rows.Columns()
	if err := closing(rows, err); err != nil {
		return err
	}
	if !slices.Equal(columns, line.Columns) {
		return fmt.Errorf("%w: the columns of the table %s are others than here", ErrBackup, line.Table)
	}
	r.table, r.columns = line.Table, columns
	return r.tx.Exec("DELETE FROM " + line.Table).Error
}

func (r *restorer) flush() error {
	if r.waiting == 0 {
		return nil
	}
	row := "(" + strings.TrimSuffix(strings.Repeat("?, ", len(r.columns)), ", ") + ")"
	statement := "INSERT INTO " + r.table + " (`" + strings.Join(r.columns, "`, `") + "`) VALUES " + strings.TrimSuffix(strings.Repeat(row+", ", r.waiting), ", ")
	_, err := r.tx.Statement.ConnPool.ExecContext(r.tx.Statement.Context, statement, r.rows...) // bytes as they are, which the layer above takes for lists
	r.rows, r.waiting, r.bytes = nil, 0, 0
	return err
}
