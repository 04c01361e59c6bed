package api

import "time"

// Pictures are figures of a site that are drawn.
type Pictures struct {
	Networks     []NetworkStanding `json:"networks" nullable:"false"`
	Visits       []VisitCount      `json:"visits" nullable:"false" doc:"The last sweeps, the oldest first"`
	Certificates []CertificateBand `json:"certificates" nullable:"false" doc:"How many certificates end when, the soonest first"`
	Times        []TimeSpread      `json:"times" nullable:"false" doc:"How response times lie in each protocol, as the newest sweep saw it that is more than a check of a few addresses"`
}

// TimeSpread is how the median response times of the devices lie that answered in one protocol, in milliseconds.
type TimeSpread struct {
	Protocol string  `json:"protocol"`
	Devices  int     `json:"devices"`
	Least    float64 `json:"least" doc:"5th percentile"`
	Low      float64 `json:"low" doc:"25th percentile"`
	Middle   float64 `json:"middle" doc:"Median"`
	High     float64 `json:"high" doc:"75th percentile"`
	Most     float64 `json:"most" doc:"95th percentile"`
}

// NetworkStanding is how many devices of a network have each standing. A device of several networks counts in each.
type NetworkStanding struct {
	Network   string `json:"network"`
	Subnet    string `json:"subnet"`
	Unmanaged int    `json:"unmanaged"`
	Managed   int    `json:"managed"`
	Missing   int    `json:"missing"`
	SetAside  int    `json:"setAside"`
}

// VisitCount is how many devices a sweep has met.
type VisitCount struct {
	Sweep     uint64    `json:"sweep"`
	Began     time.Time `json:"began"`
	Seen      int       `json:"seen"`
	Unmanaged int       `json:"unmanaged" doc:"Of them those that nobody manages now"`
}

// CertificateBand is how many certificates end within some time.
type CertificateBand struct {
	Band         string              `json:"band" enum:"expired,month,quarter,year,later"`
	Certificates int                 `json:"certificates"`
	Soonest      []EndingCertificate `json:"soonest" nullable:"false" doc:"At most twenty of them"`
}

// EndingCertificate is a certificate with its end.
type EndingCertificate struct {
	Device uint64    `json:"device"`
	Name   string    `json:"name" doc:"Of the device"`
	Port   string    `json:"port"`
	Until  time.Time `json:"until"`
}

// AddressPicture is what is at each address of a network.
type AddressPicture struct {
	Network string        `json:"network"`
	Subnet  string        `json:"subnet"`
	First   string        `json:"first" doc:"The address of the first cell"`
	Block   int           `json:"block" doc:"How many addresses one cell stands for"`
	Cells   []AddressCell `json:"cells" nullable:"false" doc:"In order of the addresses; none of an IPv6 network, or of one with more than a million addresses"`
}

// AddressCell is what is at an address, or the most telling of what is at several.
type AddressCell struct {
	State  string `json:"state" enum:"free,dynamic,register,silent,seen,conflict"`
	Device uint64 `json:"device,omitempty"`
}
