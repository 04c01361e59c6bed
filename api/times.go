package api

import "time"

// ResponseTimes is how long devices took over their answers in one protocol, as one sweep saw it.
type ResponseTimes struct {
	Sweep     uint64          `json:"sweep"`
	Began     time.Time       `json:"began"`
	Vantage   string          `json:"vantage,omitempty" doc:"Where it was seen from"`
	Protocol  string          `json:"protocol,omitempty"`
	Protocols []ProtocolCount `json:"protocols" nullable:"false" doc:"In which protocols devices answered, most of them first"`
	Total     int             `json:"total" doc:"How many devices are meant, of which the list has the first"`
	Devices   []DeviceTimes   `json:"devices" nullable:"false"`
}

// ProtocolCount is in how many devices a protocol was met.
type ProtocolCount struct {
	Protocol string `json:"protocol"`
	Devices  int    `json:"devices"`
}

// Times is how long a device took over its answers: from the question's leaving to the beginning of the answer.
type Times struct {
	Answers int     `json:"answers" doc:"How many answers there were"`
	Lost    int     `json:"lost" doc:"Questions to which nothing came within their time"`
	Median  float64 `json:"median" doc:"Median, in milliseconds"`
	Most    float64 `json:"most" doc:"95th percentile, in milliseconds"`
	Worst   float64 `json:"worst" doc:"Longest, in milliseconds"`
}

// DeviceTimes is how long one device took.
type DeviceTimes struct {
	Device uint64 `json:"device"`
	Name   string `json:"name,omitempty"`
	Addr   string `json:"addr,omitempty"`
	Kind   string `json:"kind"`
	Vendor string `json:"vendor,omitempty"`
	Model  string `json:"model,omitempty"`
	Times
}

// VisitTimes is how long a device took over its answers in one protocol, in one sweep.
type VisitTimes struct {
	Sweep    uint64    `json:"sweep"`
	Began    time.Time `json:"began"`
	Vantage  string    `json:"vantage,omitempty" doc:"Where it was seen from"`
	Protocol string    `json:"protocol"`
	Times
}
