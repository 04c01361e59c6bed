package api

import "time"

// Completeness is the estimate of how many devices of a site were not found.
type Completeness struct {
	Site        CompletenessFigure   `json:"site" doc:"All networks together"`
	Networks    []CompletenessFigure `json:"networks" nullable:"false" doc:"Those that were looked through, by the latest sweep that did"`
	Unswept     []string             `json:"unswept" nullable:"false" doc:"Networks that no sweep has looked through to its end"`
	Assumptions []string             `json:"assumptions" nullable:"false" doc:"What the estimate rests on"`
}

// CompletenessFigure is how complete a sweep of one network is, or those of all networks together.
type CompletenessFigure struct {
	Network string     `json:"network,omitempty" doc:"Its name; left out of all together"`
	Subnet  string     `json:"subnet,omitempty"`
	Sweep   uint64     `json:"sweep,omitempty" doc:"The sweep that looked through it"`
	At      *time.Time `json:"at,omitempty" doc:"When that began"`
	Seen    int        `json:"seen" doc:"Devices that were seen"`
	Listed  int        `json:"listed" doc:"Devices that a list of leases alone names: missed for certain"`
	Told    bool       `json:"told" doc:"Whether anything can be told of what was missed; else the figures below are nothing"`
	Missed  float64    `json:"missed" doc:"The estimate of devices that were missed, those that are listed among them"`
	Low     float64    `json:"low" doc:"The truth is between low and high in nine of ten cases"`
	High    float64    `json:"high"`
	AtLeast float64    `json:"atLeast" doc:"Chao's lower bound of what was missed"`
	Ways    []WayCount `json:"ways" nullable:"false" doc:"The ways of looking that can find a device whether the others do or not"`
	Advice  []string   `json:"advice" nullable:"false" doc:"What would make the figure smaller or surer"`
}

// WayCount is how many devices a way of looking has seen.
type WayCount struct {
	Way     string `json:"way"`
	Devices int    `json:"devices"`
	Alone   int    `json:"alone" doc:"Of them those that no other way has seen"`
}
