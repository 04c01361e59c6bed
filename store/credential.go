package store

import (
	"context"
	"fmt"
	"time"
)

// Credential is what a site keeps to be let in by agents. What is secret of it is in Sealed alone.
type Credential struct {
	ID        uint64
	SiteID    uint64
	Name      string
	Version   string
	User      string
	Auth      string
	Priv      string
	Sealed    []byte
	CreatedAt time.Time
}

// TableName is the table's.
func (Credential) TableName() string { return "credentials" }

// Credentials gives those of a site, in the order in which they are tried.
func (s *Store) Credentials(ctx context.Context, site uint64) ([]Credential, error) {
	var all []Credential
	err := s.db.WithContext(ctx).Where("site_id = ?", site).Order("id").Find(&all).Error
	return all, own(err, "credentials")
}

// CreateCredential adds one, and gives it its ID; ErrTaken where the site has one of that name.
func (s *Store) CreateCredential(ctx context.Context, c *Credential) error {
	return own(s.db.WithContext(ctx).Create(c).Error, fmt.Sprintf("credential %q", c.Name))
}

// Credential gives one.
func (s *Store) Credential(ctx context.Context, id uint64) (Credential, error) {
	var c Credential
	err := s.db.WithContext(ctx).First(&c, id).Error
	return c, own(err, fmt.Sprintf("credential %d", id))
}

// RemoveCredential deletes one; ErrNotFound where there is none.
func (s *Store) RemoveCredential(ctx context.Context, id uint64) error {
	gone := s.db.WithContext(ctx).Delete(&Credential{}, id)
	if gone.Error == nil && gone.RowsAffected == 0 {
		return fmt.Errorf("credential %d: %w", id, ErrNotFound)
	}
	return own(gone.Error, fmt.Sprintf("credential %d", id))
}
