package api

import "time"

// View is a filter of devices that is saved under a name: a view with its columns, an extract for somebody, or a group that it fills.
type View struct {
	Kind      string     `json:"kind" enum:"view,extract,group"`
	Name      string     `json:"name" minLength:"1" maxLength:"200"`
	Audience  string     `json:"audience,omitempty" maxLength:"1000" doc:"Of an extract: whom it is for"`
	Filter    string     `json:"filter" maxLength:"4000" doc:"As the query of the list of devices" example:"kind=printer&network=offices"`
	Columns   []string   `json:"columns,omitempty" maxItems:"40" doc:"By their names; the usual ones where left out"`
	ChangedBy string     `json:"changedBy,omitempty" readOnly:"true"`
	ChangedAt *time.Time `json:"changedAt,omitempty" readOnly:"true"`
	Devices   int64      `json:"devices" readOnly:"true" doc:"How many devices it lets through now"`
	Fault     string     `json:"fault,omitempty" readOnly:"true" doc:"Why it does not hold any more, as where a column is gone"`
}

// SavedView is what is said of a filter that is saved.
type SavedView struct {
	Audience string   `json:"audience,omitempty" maxLength:"1000"`
	Filter   string   `json:"filter" maxLength:"4000"`
	Columns  []string `json:"columns,omitempty" maxItems:"40"`
}
