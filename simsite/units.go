package simsite

import (
	"fmt"
	"slices"
	"strings"
)

// Unit is a device behind another, without an address of its own: on an MS/TP trunk behind a controller that routes, or on a serial line behind a
// gateway.
type Unit struct {
	Name     string `yaml:"name"`
	Behind   string `yaml:"behind"` // the device, by its name
	Unit     string `yaml:"unit"`   // such as bacnet/2001/05 (network and address, in hexadecimal) or modbus/7
	Model    string `yaml:"model"`
	Number   string `yaml:"number"` // of its device object, of one of BACnet
	Firmware string `yaml:"firmware"`
	Standing string `yaml:"standing"` // the truth: managed or unmanaged
}

// unitTells are the keys under which services tell of the devices behind theirs, by the beginning of the unit's name.
var unitTells = map[string]string{"bacnet": "behind", "modbus": "units"}

// withUnits has a service of a device tell of those behind that device.
func (s *Scenario) withUnits(service Service, d Device) Service {
	key := unitTells[service.Speaks]
	if key == "" {
		return service
	}
	var behind []string
	for _, u := range s.Units {
		protocol, place, _ := strings.Cut(u.Unit, "/")
		if u.Behind != d.Name || protocol != service.Speaks {
			continue
		}
		model := s.model(u.Model)
		said := []string{model.Maker, model.Is, u.Firmware}
		if protocol == "bacnet" {
			said = append([]string{u.Number, u.Name}, said...)
		}
		behind = append(behind, place+"="+strings.Join(said, "/"))
	}
	if len(behind) > 0 {
		service.Tells[key] = strings.Join(behind, "; ")
	}
	return service
}

// checkUnit checks a device behind another.
func (c *checker) checkUnit(at string, u Unit) {
	protocol, place, _ := strings.Cut(u.Unit, "/")
	switch {
	case u.Name == "":
		c.doc.Refuse(at+".name", "a device behind another needs a name")
	case !slices.ContainsFunc(c.scenario.Devices, func(d Device) bool { return d.Name == u.Behind }):
		c.doc.Refuse(at+".behind", "there is no device %q", u.Behind)
	case unitTells[protocol] == "" || place == "":
		c.doc.Refuse(at+".unit", "%q is none: want one such as bacnet/2001/05 or modbus/7", u.Unit)
	case !c.models[u.Model]:
		c.doc.Refuse(at+".model", "there is no model %q", u.Model)
	case u.Standing != "managed" && u.Standing != "unmanaged":
		c.doc.Refuse(at+".standing", "want managed or unmanaged, got %q", u.Standing)
	}
}

// UnitTruth is what is true of a device behind another.
type UnitTruth struct {
	Unit   Unit
	Model  Model
	Behind Device
}

// Place says which unit it is and behind which address, as devices are told that have none of their own.
func (t UnitTruth) Place() string {
	return fmt.Sprintf("%s behind %s", t.Unit.Unit, t.Behind.Legs[0].Address)
}

// UnitTruths gives what is true of the devices behind others.
func (s *Scenario) UnitTruths() []UnitTruth {
	truths := make([]UnitTruth, len(s.Units))
	for i, u := range s.Units {
		at := slices.IndexFunc(s.Devices, func(d Device) bool { return d.Name == u.Behind }) // Load has found it to be there
		truths[i] = UnitTruth{Unit: u, Model: s.model(u.Model), Behind: s.Devices[at]}
	}
	return truths
}
