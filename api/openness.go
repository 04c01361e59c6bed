package api

// Openness is how the devices of a site's systems can be read today: over which open protocols, or not.
type Openness struct {
	Systems []SystemOpenness `json:"systems" nullable:"false"`
	Devices []DeviceOpenness `json:"devices" nullable:"false" doc:"Those that the filter lets through, in order of their systems"`
}

// SystemOpenness is how the devices of one system can be read.
type SystemOpenness struct {
	System    string          `json:"system" doc:"Such as plant, metering or lighting"`
	Devices   int             `json:"devices"`
	Open      int             `json:"open" doc:"Over an open protocol"`
	Own       int             `json:"own" doc:"In their makers' own ways alone"`
	Closed    int             `json:"closed" doc:"Not at all: a gateway is needed"`
	Points    int             `json:"points" doc:"How much those offer that were counted"`
	Counted   int             `json:"counted" doc:"How many were counted, by a sweep that was to read"`
	Protocols []ProtocolCount `json:"protocols" nullable:"false"`
}

// DeviceOpenness is how one device can be read.
type DeviceOpenness struct {
	Device    uint64   `json:"device"`
	Name      string   `json:"name,omitempty"`
	Addr      string   `json:"addr,omitempty"`
	Kind      string   `json:"kind"`
	Vendor    string   `json:"vendor,omitempty"`
	Model     string   `json:"model,omitempty"`
	System    string   `json:"system"`
	State     string   `json:"state" enum:"open,own,closed" doc:"Over an open protocol, in its maker's own way alone, or not at all"`
	Protocols []string `json:"protocols" nullable:"false" doc:"The open ones that it answers by"`
	Points    *int     `json:"points,omitempty" doc:"How much it offers, where that has been counted"`
	Flags     []string `json:"flags" nullable:"false" doc:"What stands in the way of reading it, in words: a number of BACnet that another device holds too, a list of objects that ends too early"`
}
