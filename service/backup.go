package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"github.com/danielgtaylor/huma/v2"
)

func (s *Service) registerBackup(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "backup", Method: http.MethodGet, Path: "/api/v1/backup", Summary: "All that the database holds, as it is at one moment; what is sealed in it stays sealed",
		Tags: []string{"service"}, Extensions: needs(Administer),
	}, func(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
		return &huma.StreamResponse{Body: func(out huma.Context) {
			out.SetHeader("Content-Type", "application/gzip")
			out.SetHeader("Content-Disposition", `attachment; filename="airdrift-`+time.Now().UTC().Format(time.DateOnly)+`.backup"`)
			if err := s.store.Backup(ctx, out.BodyWriter()); err != nil {
				panic(http.ErrAbortHandler) // the transfer breaks off, so that nobody takes it for whole
			}
		}}, nil
	})
}

// Restore fills the database of a data directory, or the one that a DSN names, with a backup. No service may have run on it yet.
func Restore(ctx context.Context, config InstanceConfig, backup io.Reader) (err error) {
	if err := os.MkdirAll(config.Data, 0o711); err != nil {
		return fmt.Errorf("data directory: %w", err)
	}
	if _, err := os.Stat(filepath.Join(config.Data, passwordFile)); err == nil {
		return fmt.Errorf("a service has run on %s already: restore into a data directory that is new", config.Data)
	}
	in := &Instance{data: config.Data}
	defer func() { err = errors.Join(err, in.Close()) }()
	if in.lock, err = lockData(config.Data); err != nil {
		return err
	}
	if err := checkVersion(config.Data); err != nil {
		return err
	}
	if err := in.openStore(ctx, config); err != nil {
		return err
	}
	return in.store.Restore(ctx, backup)
}
