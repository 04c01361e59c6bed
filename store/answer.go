package store

import (
	"bytes"
	"context"
	"errors"
	"time"

	"gorm.io/gorm"
)

// KeptAnswer is what came of a request that its client may send again.
type KeptAnswer struct {
	Who         string // the user that sent it
	RequestKey  string // that the client has given it
	Fingerprint []byte // SHA-256 of what was asked
	Status      int    // 0 while it is under way
	ContentType string
	Answer      []byte
	At          time.Time
}

// TableName names the table.
func (KeptAnswer) TableName() string { return "kept_answers" }

// ErrOtherRequest is returned where a key was used for something else.
var ErrOtherRequest = errors.New("the key was used for another request")

// BeginAnswer notes that a request begins, where its user has sent none with its key before; else it gives what came of that. It is
// ErrOtherRequest where that asked for something else. Those from before a time are deleted.
func (s *Store) BeginAnswer(ctx context.Context, a KeptAnswer, forget time.Time) (before *KeptAnswer, err error) {
	err = s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Where("at < ?", forget).Delete(&KeptAnswer{}).Error; err != nil {
			return err
		}
		created := tx.Exec("INSERT IGNORE INTO kept_answers (who, request_key, fingerprint, status, content_type, answer, at) VALUES (?, ?, ?, 0, '', '', ?)", a.Who, a.RequestKey, a.Fingerprint, a.At)
		if created.Error != nil || created.RowsAffected == 1 {
			return created.Error
		}
		before = &KeptAnswer{}
		return tx.Where("who = ? AND request_key = ?", a.Who, a.RequestKey).Take(before).Error
	})
	if err == nil && before != nil && !bytes.Equal(before.Fingerprint, a.Fingerprint) {
		return nil, ErrOtherRequest
	}
	return before, own(err, "answers to requests")
}

// EndAnswer keeps what came of a request; with a status of 0 it is deleted, so that it can be sent again.
func (s *Store) EndAnswer(ctx context.Context, a KeptAnswer) error {
	db := s.db.WithContext(ctx).Where("who = ? AND request_key = ?", a.Who, a.RequestKey)
	if a.Status == 0 {
		return own(db.Delete(&KeptAnswer{}).Error, "answers to requests")
	}
	return own(db.Model(&KeptAnswer{}).Updates(map[string]any{"status": a.Status, "content_type": a.ContentType, "answer": a.Answer}).Error, "answers to requests")
}

// ForgetBegun deletes the requests that an earlier run of the service has left under way.
func (s *Store) ForgetBegun(ctx context.Context) error {
	return own(s.db.WithContext(ctx).Where("status = 0").Delete(&KeptAnswer{}).Error, "answers to requests")
}
