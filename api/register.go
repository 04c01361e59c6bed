package api

import "time"

// LeaseImport is what came of importing leases.
type LeaseImport struct {
	Leases  int `json:"leases"`
	Devices int `json:"devices" doc:"Devices of which they tell something"`
}

// Entry is one device of the register.
type Entry struct {
	ID          uint64            `json:"id"`
	Name        string            `json:"name,omitempty"`
	MAC         string            `json:"mac,omitempty"`
	Addr        string            `json:"address,omitempty"`
	Vendor      string            `json:"vendor,omitempty"`
	Model       string            `json:"model,omitempty"`
	Kind        string            `json:"kind,omitempty"`
	Location    string            `json:"location,omitempty"`
	Responsible string            `json:"responsible,omitempty"`
	Note        string            `json:"note,omitempty"`
	Extra       map[string]string `json:"extra,omitempty" doc:"Columns with a heading of the site's own"`

	Tag      string     `json:"tag,omitempty" readOnly:"true" doc:"Its ETag: given as If-Match, it is changed only if it is still so"`
	Device   uint64     `json:"device,omitempty" readOnly:"true" doc:"The device that it means, or that stands for it where none was seen"`
	Standing string     `json:"standing,omitempty" readOnly:"true" doc:"Of that device"`
	Presence string     `json:"presence,omitempty" readOnly:"true" doc:"Of that device"`
	LastSeen *time.Time `json:"lastSeen,omitempty" readOnly:"true" doc:"Left out where it has never answered"`
	Could    []uint64   `json:"could,omitempty" readOnly:"true" nullable:"false" doc:"Where it has never answered: devices in no register that it could mean. Linking one of them settles it."`
}

// EntryText is an entry of the register as it is written. At least one of name, MAC address and address is given.
type EntryText struct {
	Name        string            `json:"name,omitempty" maxLength:"1000"`
	MAC         string            `json:"mac,omitempty" maxLength:"100"`
	Addr        string            `json:"address,omitempty" maxLength:"100" doc:"Of a device that lies beyond a router too: a sweep of the network asks it"`
	Vendor      string            `json:"vendor,omitempty" maxLength:"1000"`
	Model       string            `json:"model,omitempty" maxLength:"1000"`
	Kind        string            `json:"kind,omitempty" maxLength:"1000"`
	Location    string            `json:"location,omitempty" maxLength:"1000"`
	Responsible string            `json:"responsible,omitempty" maxLength:"1000"`
	Note        string            `json:"note,omitempty" maxLength:"1000"`
	Extra       map[string]string `json:"extra,omitempty" doc:"Columns with a heading of the site's own"`
}

// Linking says which entry of the register a device is.
type Linking struct {
	Entry  uint64 `json:"entry" doc:"Number of the entry"`
	Reason string `json:"reason,omitempty" maxLength:"1000" doc:"Why, for those who come after"`
}

// Decided names the decision that came of something that was said.
type Decided struct {
	Decision uint64 `json:"decision" doc:"By which it is undone"`
}

// NewEntry is what somebody says of a device that goes into the register; what is left out is taken from what was seen.
type NewEntry struct {
	Name        string `json:"name,omitempty" maxLength:"1000"`
	Vendor      string `json:"vendor,omitempty" maxLength:"1000"`
	Model       string `json:"model,omitempty" maxLength:"1000"`
	Kind        string `json:"kind,omitempty" maxLength:"1000"`
	Location    string `json:"location,omitempty" maxLength:"1000"`
	Responsible string `json:"responsible,omitempty" maxLength:"1000"`
	Note        string `json:"note,omitempty" maxLength:"1000"`
}

// Imported says what an import of a register did.
type Imported struct {
	Added   int    `json:"added"`
	Updated int    `json:"updated"`
	Faults  []Bad  `json:"faults" nullable:"false" doc:"Of a partial import, the lines that were left out and why; the first hundred"`
	LeftOut int    `json:"leftOut" doc:"Of a partial import, how many lines were left out"`
	Counts  Counts `json:"counts" doc:"The site's devices after it"`
	Changed int    `json:"changed" doc:"Of those that are updated, those that do not stay as they were"`
	Deleted int    `json:"deleted" doc:"Entries that had no place in the file, where it takes the register's place"`

	Changes []EntryChange `json:"changes" nullable:"false" doc:"What is added, changed and deleted; the first 200"`
}

// EntryChange is what an import does with one entry.
type EntryChange struct {
	Does   string        `json:"does" enum:"add,change,delete"`
	Entry  string        `json:"entry" doc:"What it is called"`
	Fields []FieldChange `json:"fields" nullable:"false" doc:"Of one that is changed, in which columns"`
}

// FieldChange is a column in which an entry is changed.
type FieldChange struct {
	Field   string `json:"field"`
	Was     string `json:"was"`
	Becomes string `json:"becomes"`
}

// Bad is something wrong in a file, with its place.
type Bad struct {
	Place string `json:"place" example:"line 3, column 2"`
	Field string `json:"field,omitempty"`
	Why   string `json:"why"`
}
