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
	Name      string // in the one form that UserName of service gives
	Role      string
	Hash      string // of the password, by bcrypt
	CreatedAt time.Time

	SecondFactor     []byte // the sealed secret of the second factor; empty where there is none
	SecondFactorStep int64  // of the last code that was taken: no code is taken twice
	Recovery         string // hashes of the codes that stand in for a lost second factor, separated by spaces
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

// UserByID gives one user by number. Names may be given again, numbers are not.
func (s *Store) UserByID(ctx context.Context, id uint64) (User, error) {
	var user User
	err := s.db.WithContext(ctx).First(&user, id).Error
	return user, own(err, "user")
}

// CreateUser stores a new user. A name that is there already gives ErrTaken.
func (s *Store) CreateUser(ctx context.Context, user User) error {
	return own(s.db.WithContext(ctx).Create(&user).Error, "user "+user.Name)
}

// ErrLast is returned where the last user of a role would go.
var ErrLast = errors.New("nobody else has this role")

// ChangeUser changes one user, or deletes the one for whom change gives false, and gives the user as it was. As long as there
// are users, one of them has the role keep.
func (s *Store) ChangeUser(ctx context.Context, name, keep string, change func(*User) (stays bool, err error)) (before User, err error) {
	err = s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Clauses(lockRow).First(&before, "name = ?", name).Error; err != nil {
			return err
		}
		user := before
		stays, err := change(&user)
		switch {
		case err != nil:
		case stays:
			err = tx.Save(&user).Error
		default:
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
	return before, own(err, "user "+name)
}

// Token lets a command line on another machine act for a user. Only its hash is kept.
type Token struct {
	ID         uint64
	UserID     uint64
	Label      string
	Hash       []byte // SHA-256
	CreatedAt  time.Time
	ExpiresAt  time.Time
	LastUsedAt *time.Time // nil where it never was
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

// DeleteToken deletes one token of a user.
func (s *Store) DeleteToken(ctx context.Context, user, id uint64) error {
	gone := s.db.WithContext(ctx).Where("id = ? AND user_id = ?", id, user).Delete(&Token{})
	if gone.Error == nil && gone.RowsAffected == 0 {
		return fmt.Errorf("token %d: %w", id, ErrNotFound)
	}
	return own(gone.Error, "token")
}

// DeleteTokens deletes all tokens of a user.
func (s *Store) DeleteTokens(ctx context.Context, user uint64) error {
	return own(s.db.WithContext(ctx).Where("user_id = ?", user).Delete(&Token{}).Error, "tokens")
}

// usedEvery is how exactly it is kept when a token was used last.
const usedEvery = time.Minute

// UserOfToken gives whom a token acts for, and notes that it was used. One that has expired by now is not found.
func (s *Store) UserOfToken(ctx context.Context, hash [sha256.Size]byte, now time.Time) (User, error) {
	var token Token
	db := s.db.WithContext(ctx)
	if err := db.First(&token, "hash = ? AND expires_at > ?", hash[:], now).Error; err != nil {
		return User{}, own(err, "token")
	}
	user, err := s.UserByID(ctx, token.UserID)
	if err == nil && (token.LastUsedAt == nil || now.Sub(*token.LastUsedAt) > usedEvery) {
		err = own(db.Model(&Token{}).Where("id = ?", token.ID).Update("last_used_at", now).Error, "token")
	}
	return user, err
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
	line.Who, line.Origin, line.Action, line.Subject = fit(line.Who, 100), fit(line.Origin, 100), fit(line.Action, 100), fit(line.Subject, 1000)
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

// PruneAudit deletes the lines of the audit log that were written before a time.
func (s *Store) PruneAudit(ctx context.Context, before time.Time) error {
	return own(s.db.WithContext(ctx).Where("at < ?", before).Delete(&AuditLine{}).Error, "audit log")
}
