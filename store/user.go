package store

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
)

// User is somebody who may sign in.
type User struct {
	ID        uint64
	Name      string
	Role      string
	Hash      string // of the password, by bcrypt
	CreatedAt time.Time
}

// TableName names the table.
func (User) TableName() string { return "users" }

// Users gives all users in order of their names.
func (s *Store) Users(ctx context.Context) ([]User, error) {
	var users []User
	err := s.db.WithContext(ctx).Order("name").Find(&users).Error
	return users, own(err, "users")
}

// User gives one user by name.
func (s *Store) User(ctx context.Context, name string) (User, error) {
	var user User
	err := s.db.WithContext(ctx).First(&user, "name = ?", name).Error
	return user, own(err, "user "+name)
}

// CreateUser stores a new user. A name that is there already gives ErrTaken.
func (s *Store) CreateUser(ctx context.Context, user User) error {
	return own(s.db.WithContext(ctx).Create(&user).Error, "user "+user.Name)
}

// ErrLast is returned where the last user of a role would go.
var ErrLast = errors.New("nobody else has this role")

// ChangeUser changes one user, or deletes the one for whom change gives false. As long as there are users, one of them
// has the role keep.
func (s *Store) ChangeUser(ctx context.Context, name, keep string, change func(*User) bool) error {
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var user User
		if err := tx.First(&user, "name = ?", name).Error; err != nil {
			return err
		}
		var err error
		if change(&user) {
			err = tx.Save(&user).Error
		} else {
			err = tx.Delete(&user).Error
		}
		if err != nil {
			return err
		}
		var left int64
		if err := tx.Model(&User{}).Where("role = ?", keep).Count(&left).Error; err != nil {
			return err
		}
		if left == 0 {
			return ErrLast
		}
		return nil
	})
	return own(err, "user "+name)
}

// Token lets a command line act for a user. Only its hash is kept.
type Token struct {
	ID        uint64
	UserID    uint64
	Label     string
	Hash      []byte // SHA-256
	CreatedAt time.Time
}

// TableName names the table.
func (Token) TableName() string { return "tokens" }

// CreateToken stores a new token and gives it its ID.
func (s *Store) CreateToken(ctx context.Context, token *Token) error {
	return own(s.db.WithContext(ctx).Create(token).Error, "token")
}

// Tokens gives the tokens of a user, the oldest first.
func (s *Store) Tokens(ctx context.Context, user uint64) ([]Token, error) {
	var tokens []Token
	err := s.db.WithContext(ctx).Where("user_id = ?", user).Order("id").Find(&tokens).Error
	return tokens, own(err, "tokens")
}

// DeleteToken takes a user's token away.
func (s *Store) DeleteToken(ctx context.Context, user, id uint64) error {
	gone := s.db.WithContext(ctx).Where("id = ? AND user_id = ?", id, user).Delete(&Token{})
	if gone.Error == nil && gone.RowsAffected == 0 {
		return fmt.Errorf("token %d: %w", id, ErrNotFound)
	}
	return own(gone.Error, "token")
}

// UserOfToken gives whom a token acts for.
func (s *Store) UserOfToken(ctx context.Context, hash [sha256.Size]byte) (User, error) {
	var user User
	err := s.db.WithContext(ctx).Joins("JOIN tokens ON tokens.user_id = users.id").First(&user, "tokens.hash = ?", hash[:]).Error
	return user, own(err, "token")
}

// AuditLine says who did what, when and from where.
type AuditLine struct {
	ID      uint64
	At      time.Time
	Who     string
	Role    string
	Origin  string // the address it came from
	Action  string
	Subject string
	Outcome int // HTTP status
}

// TableName names the table.
func (AuditLine) TableName() string { return "audit" }

// AddAudit adds a line to the audit log.
func (s *Store) AddAudit(ctx context.Context, line AuditLine) error {
	return own(s.db.WithContext(ctx).Create(&line).Error, "audit log")
}

// Audit gives lines of the audit log, the newest first; before is the ID to start below, 0 for the newest.
func (s *Store) Audit(ctx context.Context, before uint64, limit int) ([]AuditLine, error) {
	query := s.db.WithContext(ctx).Order("id DESC").Limit(limit)
	if before > 0 {
		query = query.Where("id < ?", before)
	}
	var lines []AuditLine
	err := query.Find(&lines).Error
	return lines, own(err, "audit log")
}
