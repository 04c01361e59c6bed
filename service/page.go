package service

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"net/http"

	"airdrift/api"
)

// PageInput says which page of a list is meant.
type PageInput struct {
	Cursor string `query:"cursor" maxLength:"2000" doc:"What the page before gave as next; left out for the first"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100" doc:"How many items a page has at most"`
}

// SkipInput says which part of a long list is looked at, for who scrolls to anywhere in it.
type SkipInput struct {
	Skip int `query:"skip" minimum:"0" maximum:"10000000" doc:"How many items are passed over, from the first of the list or of the page that the cursor names"`
}

// listOutput is a list as it is answered.
type listOutput[T any] struct{ Body api.List[T] }

// kindCursor is the kind of refusal of a cursor that no page has given.
const kindCursor = "unknown-cursor"

// mark reads where the page begins; ok is false for the first one.
func (in PageInput) mark(into any) (ok bool, err error) {
	if in.Cursor == "" {
		return false, nil
	}
	text, err := base64.RawURLEncoding.DecodeString(in.Cursor)
	if err == nil {
		err = json.Unmarshal(text, into)
	}
	if mark, bounded := into.(interface{ Valid() bool }); err == nil && bounded && !mark.Valid() {
		err = errors.New("no list has such a place")
	}
	if err != nil {
		return false, &refusedError{status: http.StatusUnprocessableEntity, kind: kindCursor, text: "the cursor is none that a page of this list has given"}
	}
	return true, nil
}

// cursorOf writes where the next page begins.
func cursorOf(mark any) string {
	text, _ := json.Marshal(mark) // marks are numbers and texts
	return base64.RawURLEncoding.EncodeToString(text)
}

// pageOf answers with a page of rows, of which one more was read than it holds where there are more; mark says where the page behind a row
// begins.
func pageOf[R, T any](rows []R, limit int, to func(R) T, mark func(R) any) *listOutput[T] {
	out := &listOutput[T]{}
	if len(rows) > limit {
		rows = rows[:limit]
		out.Body.Next = cursorOf(mark(rows[limit-1]))
	}
	out.Body.Items = make([]T, len(rows))
	for i, r := range rows {
		out.Body.Items[i] = to(r)
	}
	return out
}

// listOf answers with a list that is all on one page.
func listOf[T any](items []T) *listOutput[T] {
	if items == nil {
		items = []T{}
	}
	return &listOutput[T]{api.List[T]{Items: items}}
}
