// Package store keeps sites, registers, sweeps and devices in MariaDB.
package store

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"os"
	"time"

	"github.com/go-sql-driver/mysql"
	gormmysql "gorm.io/driver/mysql"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
	"gorm.io/gorm/logger"
)

// ErrNotFound is returned where what was asked for is not there.
var ErrNotFound = errors.New("not found")

// ErrTaken is returned where a name is in use already.
var ErrTaken = errors.New("in use already")

// ErrBadDSN is returned where the address of a database cannot be used as it is written.
var ErrBadDSN = errors.New("the address of the database (DSN) is malformed: write user:password@tcp(host:3306)/name")

// batchSize is how many rows go into one statement.
const batchSize = 500

// lockRow has a row that is read kept from others until the transaction ends.
var lockRow = clause.Locking{Strength: clause.LockingStrengthUpdate}

// Store is an open database. It may be used from several goroutines.
type Store struct {
	db *gorm.DB
}

// Option says more of how a database is opened.
type Option func(*mysql.Config) error

// WithCA speaks TLS to the database and trusts the certificates in a file (PEM) alone to have signed for it.
func WithCA(path string) Option {
	return func(config *mysql.Config) error {
		text, err := os.ReadFile(path)
		if err != nil {
			return fmt.Errorf("certificates of the database: %w", err)
		}
		roots := x509.NewCertPool()
		if !roots.AppendCertsFromPEM(text) {
			return fmt.Errorf("certificates of the database: %s holds no PEM certificate", path)
		}
		host, _, err := net.SplitHostPort(config.Addr)
		if err != nil {
			return fmt.Errorf("%w: %w", ErrBadDSN, err)
		}
		config.TLS = &tls.Config{RootCAs: roots, ServerName: host, MinVersion: tls.VersionTLS12}
		return nil
	}
}

// Open opens the database at a DSN of the form user:password@tcp(host:3306)/name, and brings its tables up to date.
// One whose tables are of a newer version is refused. With ?tls=true behind the name the connection is by TLS.
func Open(ctx context.Context, dsn string, options ...Option) (*Store, error) {
	config, err := parseDSN(dsn)
	if err != nil {
		return nil, err
	}
	for _, option := range options {
		if err := option(config); err != nil {
			return nil, err
		}
	}
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrBadDSN, err)
	}
	pool := sql.OpenDB(connector)
	pool.SetMaxOpenConns(16)
	pool.SetConnMaxIdleTime(time.Minute)
	if err := pool.PingContext(ctx); err != nil {
		_ = pool.Close()
		return nil, fmt.Errorf("the database at %s cannot be reached: %w", config.Addr, err)
	}
	db, err := gorm.Open(gormmysql.New(gormmysql.Config{Conn: pool}), &gorm.Config{
		Logger:                 logger.Discard,
		TranslateError:         true,
		SkipDefaultTransaction: true,
		NowFunc:                func() time.Time { return time.Now().UTC() },
		CreateBatchSize:        batchSize,
	})
	if err != nil {
		_ = pool.Close()
		return nil, fmt.Errorf("open the database: %w", err)
	}
	s := &Store{db: db}
	if err := s.migrate(ctx); err != nil {
		_ = pool.Close()
		return nil, err
	}
	return s, nil
}

func parseDSN(dsn string) (*mysql.Config, error) {
	config, err := mysql.ParseDSN(dsn)
	if err != nil || config.DBName == "" {
		// The cause is left out: it may quote the password.
		return nil, ErrBadDSN
	}
	config.ParseTime = true
	config.Loc = time.UTC
	config.Collation = "utf8mb4_unicode_ci"
	config.Timeout = 10 * time.Second
	config.Logger = &mysql.NopLogger{}
	return config, nil
}

// ping tries one connection.
func ping(ctx context.Context, dsn string) error {
	config, err := parseDSN(dsn)
	if err != nil {
		return err
	}
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return err
	}
	pool := sql.OpenDB(connector)
	defer pool.Close()
	return pool.PingContext(ctx)
}

// Close closes the database.
func (s *Store) Close() error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	return pool.Close()
}

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	return pool.PingContext(ctx)
}

// own turns the library's errors into this package's.
func own(err error, what string) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, gorm.ErrRecordNotFound):
		return fmt.Errorf("%s: %w", what, ErrNotFound)
	case errors.Is(err, gorm.ErrDuplicatedKey):
		return fmt.Errorf("%s: %w", what, ErrTaken)
	case isRefused(err) && !errors.Is(err, ErrRefused):
		return fmt.Errorf("%s: %w: %w", what, ErrRefused, err)
	}
	return fmt.Errorf("%s: %w", what, err)
}

// Setting gives a setting's value, or "" where it was never set.
func (s *Store) Setting(ctx context.Context, name string) (string, error) {
	var row settingRow
	err := s.db.WithContext(ctx).First(&row, "name = ?", name).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return "", nil
	}
	return row.Value, own(err, "setting "+name)
}

// SetSetting writes a setting.
func (s *Store) SetSetting(ctx context.Context, name, value string) error {
	return own(s.db.WithContext(ctx).Save(&settingRow{Name: name, Value: value}).Error, "setting "+name)
}

type settingRow struct {
	Name  string `gorm:"primaryKey"`
	Value string
}

func (settingRow) TableName() string { return "settings" }
