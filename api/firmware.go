package api

// FirmwareSpread is how the versions of firmware lie over the devices of one model.
type FirmwareSpread struct {
	Vendor   string          `json:"vendor,omitempty"`
	Model    string          `json:"model"`
	Devices  int             `json:"devices"`
	Versions []FirmwareCount `json:"versions" nullable:"false" doc:"The newest first"`
	Unknown  int             `json:"unknown" doc:"Devices that do not tell theirs"`
	Newest   string          `json:"newest,omitempty" doc:"The newest version seen at the site"`
	Wanted   string          `json:"wanted,omitempty" doc:"The version that the site wants"`
	Behind   int             `json:"behind" doc:"Devices with an older version than is wanted, or where none is, than the newest seen"`
}

// FirmwareCount is how many devices of a model have one version.
type FirmwareCount struct {
	Version string `json:"version"`
	Devices int    `json:"devices"`
}

// WantedFirmware says which version of its firmware a site wants on a model.
type WantedFirmware struct {
	Vendor  string `json:"vendor,omitempty" maxLength:"200"`
	Model   string `json:"model" minLength:"1" maxLength:"200"`
	Version string `json:"version" maxLength:"200" doc:"Empty where none in particular is wanted any more"`
}
