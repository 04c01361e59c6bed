package api

import "time"

// Change is what a sweep has found changed of a device.
type Change struct {
	ID        uint64    `json:"id"`
	Sweep     uint64    `json:"sweep"`
	Began     time.Time `json:"began" doc:"When the sweep began"`
	Device    uint64    `json:"device"`
	Name      string    `json:"name,omitempty" doc:"What the device is called now"`
	Addr      string    `json:"address,omitempty" doc:"Its first address now"`
	Kind      string    `json:"kind" enum:"appeared,vanished,moved,changed"`
	Attribute string    `json:"attribute,omitempty" doc:"What of the device has changed; of a port that was opened before is empty, of one that was closed after"`
	Before    string    `json:"before,omitempty"`
	After     string    `json:"after,omitempty"`
}

// Tenure is a time in which a device held an address, as seen from one vantage.
type Tenure struct {
	Device     uint64    `json:"device" doc:"Number of the device"`
	Name       string    `json:"name,omitempty" doc:"As the device is called now"`
	Addr       string    `json:"addr,omitempty" doc:"Left out of a device without one"`
	MAC        string    `json:"mac,omitempty" doc:"Left out where it could not be seen"`
	Unit       string    `json:"unit,omitempty" doc:"Behind the address, where the device has none of its own"`
	Vantage    string    `json:"vantage" doc:"The interface it was seen from, and the network that stands in"`
	Since      time.Time `json:"since" doc:"When the sweep began that met it so first"`
	Until      time.Time `json:"until" doc:"When the sweep began that met it so last"`
	SinceSweep uint64    `json:"sinceSweep"`
	UntilSweep uint64    `json:"untilSweep"`
	Ended      bool      `json:"ended" doc:"It is known that the device holds it no more"`
}
