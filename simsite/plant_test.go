package simsite_test

import (
	"context"
	"slices"
	"strings"
	"sync"
	"testing"

	"airdrift/core/evidence"
	"airdrift/core/probe"
	"airdrift/core/sweep"
	"airdrift/simsite"
)

// plantRoom is a room of what buildings are made of, one device for each way to speak.
const plantRoom = `name: plant room
seed: 3
networks: [{name: plant, subnet: 10.9.0.0/24, subnet6: "fd00:9::/64", latency: 300us}]
vantage: {network: plant, address: 10.9.0.250, address6: "fd00:9::250", mac: "48:9b:34:00:00:fa"}
devices:
  - {name: many at once, standing: managed, legs: [{network: plant, address: 10.9.0.1, mac: "48:9b:34:00:00:01"}], services: [{port: 47808, speaks: bacnet, tells: {instance: "1201", name: "{name}", vendor: "999", maker: Thornquist Controls, model: Climate 900, firmware: "4.2", location: north door, serial: "{serial}"}}]}
  - {name: one at a time, standing: managed, legs: [{network: plant, address: 10.9.0.2, mac: "48:9b:34:00:00:02"}], services: [{port: 47808, speaks: bacnet, tells: {instance: "7", name: "{name}", vendor: "999", model: Climate 90, firmware: "1.0", knows: single}}]}
  - {name: little room, standing: managed, legs: [{network: plant, address: 10.9.0.3, mac: "48:9b:34:00:00:03"}], services: [{port: 47808, speaks: bacnet, tells: {instance: "4194000", name: "{name}", vendor: "999", maker: Thornquist Controls, model: Climate 900 with a name so long that it takes a segment of its own, firmware: "4.3", room: little}}]}
  - {name: router, standing: managed, legs: [{network: plant, address: 10.9.0.4, mac: "48:9b:34:00:00:04"}], services: [{port: 47808, speaks: bacnet, tells: {instance: "20", name: "{name}", vendor: "999", model: Trunk 4, behind: "2001/05=2005/fern valve/Thornquist Controls/Valve 2/1.1; 2001/0c=2012/moss valve/Thornquist Controls/Valve 2/1.2"}}]}
  - {name: slow, standing: managed, legs: [{network: plant, address: 10.9.0.5, mac: "48:9b:34:00:00:05"}], services: [{port: 47808, speaks: bacnet, tells: {instance: "30", name: "{name}", vendor: "999", model: Climate 10, slow: 1500ms}}]}
  - {name: meter, standing: managed, legs: [{network: plant, address: 10.9.0.11, mac: "48:9b:34:00:00:11"}], services: [{port: 502, speaks: modbus, tells: {maker: Bramblecote Metering, code: T3, revision: "2.11", product: Tally, model: Tally 3, application: seed vault}}]}
  - {name: meters behind, standing: managed, legs: [{network: plant, address: 10.9.0.12, mac: "48:9b:34:00:00:12"}], services: [{port: 502, speaks: modbus, tells: {maker: Stilebridge Gateways, code: SM, revision: "1.0", units: "1=Bramblecote Metering/T3/2.10; 4=Larkspur Drives/S45/3.0"}}]}
  - {name: any unit, standing: managed, legs: [{network: plant, address: 10.9.0.13, mac: "48:9b:34:00:00:13"}], services: [{port: 502, speaks: modbus, tells: {maker: Larkspur Drives, code: S45, revision: "3.0", answers: any}}]}
  - {name: old server, standing: managed, legs: [{network: plant, address: 10.9.0.14, mac: "48:9b:34:00:00:14"}], services: [{port: 502, speaks: modbus, tells: {model: Tally 1 meter, knows: server}}]}
  - {name: bus coupler, standing: managed, legs: [{network: plant, address: 10.9.0.21, mac: "48:9b:34:00:00:21"}], services: [{port: 3671, speaks: knx, tells: {name: Wick KNX coupler, address: 1.1.250, serial: 00ab12345678}}]}
  - {name: drive, standing: managed, legs: [{network: plant, address: 10.9.0.22, mac: "48:9b:34:00:00:22"}], services: [{port: 44818, speaks: ethernet-ip, tells: {vendor: "900", type: "2", code: "45", revision: "3.7", serial: 00c0ffee, product: Spindle 45 drive}}]}
  - {name: thermostat, standing: managed, legs: [{network: plant, address: 10.9.0.23, mac: "48:9b:34:00:00:23"}], services: [{port: 5683, speaks: coap, tells: {links: "</temp>;rt=\"temperature-c\";title=\"room, temperature\",</set>;rt=\"setpoint\";if=\"core.a\",</3/0>;rt=oma.lwm2m,</firmware>"}}]}
  - {name: panel, standing: managed, legs: [{network: plant, address: 10.9.0.24, mac: "48:9b:34:00:00:24"}], services: [{port: 4840, speaks: opcua, tells: {name: Panel 7 server, uri: "urn:seed-vault:panel", product: "urn:thornquist.example:panel-7"}}]}
  - {name: stage node, standing: managed, legs: [{network: plant, address: 10.9.0.25, mac: "48:9b:34:00:00:25"}], services: [{port: 6454, speaks: art-net, tells: {name: balcony, text: Wick 16 stage node, revision: "2.14"}}]}
  - {name: projector, standing: managed, legs: [{network: plant, address: 10.9.0.26, mac: "48:9b:34:00:00:26"}], services: [{port: 4352, speaks: pjlink, tells: {name: hall, maker: Vesperlight Displays, model: Beam 7, serial: B7X, firmware: "1.04"}}]}
  - {name: locked projector, standing: managed, legs: [{network: plant, address: 10.9.0.27, mac: "48:9b:34:00:00:27"}], services: [{port: 4352, speaks: pjlink, tells: {locked: "yes"}}]}
  - {name: machine, standing: managed, legs: [{network: plant, address: 10.9.0.28, mac: "48:9b:34:00:00:28"}], services: [{port: 623, speaks: ipmi}]}
  - {name: controller, standing: managed, legs: [{network: plant, address: 10.9.0.29, mac: "48:9b:34:00:00:29"}], services: [{port: 102, speaks: iso, tells: {slot: "1", order: TQ 315-2, firmware: 3.2.6, name: borehole, type: CPU 315, serial: S C-1}}]}
  - {name: broker, standing: managed, legs: [{network: plant, address: 10.9.0.31, mac: "48:9b:34:00:00:31"}], services: [{port: 1883, speaks: mqtt, tells: {open: "yes", version: acorn broker 2.0}}]}
  - {name: station, standing: managed, legs: [{network: plant, address: 10.9.0.32, mac: "48:9b:34:00:00:32"}], services: [{speaks: profinet, tells: {name: pump-1, type: Spindle 45, vendor: "42", device: "257"}}]}
  - {name: power, standing: managed, legs: [{network: plant, address: 10.9.0.30, mac: "48:9b:34:00:00:30"}], services: [{port: 3493, speaks: ups, tells: {program: power manager 2.8, units: "rack=Hartsedge Power/Ballast 3000/E7J1/1.4"}}]}
  - {name: valve, standing: managed, legs: [{network: plant, address: 10.9.0.33, mac: "48:9b:34:00:00:33"}], services: [{port: 5683, speaks: coap, tells: {links: "</>;rt=\"oma.lwm2m\",</1/0>,</3/0>", maker: Emberline, model: Ember 2, serial: EM-2, firmware: "1.4"}}]}
  - {name: dimmer node, standing: managed, legs: [{network: plant, address: 10.9.0.34, mac: "48:9b:34:00:00:34"}], services: [{port: 6454, speaks: art-net, tells: {name: grid, text: Wick 4 stage node, revision: "1.1", rdm: "7ff0:00000012 7ff0:00000013"}}]}
  - {name: files, standing: managed, legs: [{network: plant, address: 10.9.0.35, mac: "48:9b:34:00:00:35"}], services: [{port: 111, speaks: rpc, tells: {mount: "635"}}, {port: 635, speaks: rpc, tells: {exports: "/srv/seeds=*; /home=10.9.0.0/24 acorn; /pub="}}, {port: 21, speaks: ftp, says: ready, tells: {system: UNIX, anonymous: "yes"}}, {port: 80, speaks: http, title: files, tells: {files: open}}, {port: 445, speaks: smb, tells: {id: files, lets: nobody, shares: seeds orchids ferns mosses}}]}
  - {name: manager, standing: managed, legs: [{network: plant, address: 10.9.0.36, mac: "48:9b:34:00:00:36"}], services: [{port: 443, speaks: https, title: sign in, name: manager, tells: {redfish: Harrow R2, maker: Harrowgate Machines, id: 92384634-2938-2342-8820-489239905423, files: sign-in}}, {port: 21, speaks: ftp, says: ready, tells: {system: UNIX}}, {port: 445, speaks: smb, tells: {id: manager, lets: guest, shares: seeds}}]}
  - {name: camera, standing: managed, legs: [{network: plant, address: 10.9.0.37, mac: "48:9b:34:00:00:37"}], services: [{port: 3702, speaks: wsd, tells: {types: "dn:NetworkVideoTransmitter", scopes: "onvif://www.onvif.org/type/video_encoder", maker: Lanternfield, model: Gaze 5, serial: LF-5, firmware: 5.4.1, onvif: open}}]}
  - {name: telephone, standing: managed, legs: [{network: plant, address: 10.9.0.38, mac: "48:9b:34:00:00:38"}], services: [{port: 5060, speaks: sip, tells: {agent: Calla 10 3.1.4, extension: "201"}}, {speaks: cdp, tells: {name: SEP489B34000038, port: Port 1, descr: Calla software 3.1, platform: Calla 10, role: telephone}}]}
  - {name: sixth, standing: managed, legs: [{network: plant, address6: "fd00:9::39", mac: "48:9b:34:00:00:39"}], services: [{port: 47808, speaks: bacnet-ipv6, tells: {instance: "3901", name: "{name}", vendor: "999", model: Climate 960, firmware: "6.0"}}]}
`

// heardIn sweeps a building and gives what each device, and what stands behind it, said by the protocols of plants.
func heardIn(t *testing.T, text string) map[string][]string {
	t.Helper()
	return heardWith(t, text, func(*sweep.Order) {})
}

// heardWith is heardIn with an order that is changed.
func heardWith(t *testing.T, text string, change func(*sweep.Order)) map[string][]string {
	t.Helper()
	scenario, err := simsite.Load("plant room", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	site, err := simsite.Start(scenario)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = site.Close() })
	w, err := site.Wire()
	if err != nil {
		t.Fatal(err)
	}
	var mu sync.Mutex
	heard := map[string][]string{}
	order := sweep.Order{
		Fence: scenario.Subnets(), Ranges: scenario.Ranges(), Ports: append(probe.TellingPorts(), 111), Pace: sweep.Brisk, Seed: 1,
	}
	change(&order)
	_, err = sweep.Run(t.Context(), w, order, func(e sweep.Event) {
		if w, ok := e.(sweep.Warning); ok {
			t.Error(w)
		}
		s, ok := e.(sweep.Sighted)
		if !ok || !s.Whole {
			return
		}
		mu.Lock()
		defer mu.Unlock()
		who := strings.TrimSpace(s.Sighting.Addr.String() + " " + s.Sighting.Unit)
		heard[who] = nil
		for _, it := range s.Sighting.Items {
			if plants[it.Source] || strings.HasPrefix(it.Key, "dav.") || it.Key == "smb.share" || it.Key == "smb.anybody" {
				heard[who] = append(heard[who], it.Key+"="+it.Value)
			}
		}
		slices.Sort(heard[who])
		heard[who] = slices.Compact(heard[who])
	})
	if err != nil {
		t.Fatal(err)
	}
	return heard
}

var plants = map[evidence.Source]bool{
	evidence.SourceBACnet: true, evidence.SourceModbus: true, evidence.SourceKNX: true, evidence.SourceCIP: true, evidence.SourceCoAP: true, evidence.SourceOPCUA: true,
	evidence.SourceArtNet: true, evidence.SourcePJLink: true, evidence.SourceIPMI: true, evidence.SourceS7: true, evidence.SourceUPS: true, evidence.SourceMQTT: true, evidence.SourcePROFINET: true,
	evidence.SourceRPC: true, evidence.SourceFTP: true, evidence.SourceRedfish: true, evidence.SourceONVIF: true, evidence.SourceSIP: true, evidence.SourceCDP: true,
}

// Each device of a plant room tells what it is in its own language, and so do those behind others.
func TestPlantRoomTells(t *testing.T) {
	heard := heardIn(t, plantRoom)
	want := map[string]string{
		"10.9.0.1":                `bacnet.firmware=4.2 | bacnet.instance=1201 | bacnet.location=north door | bacnet.maker=Thornquist Controls | bacnet.model=Climate 900 | bacnet.name=many at once | bacnet.serial=EAD151B3 | bacnet.vendor-id=999`,
		"10.9.0.2":                `bacnet.firmware=1.0 | bacnet.instance=7 | bacnet.model=Climate 90 | bacnet.name=one at a time | bacnet.vendor-id=999`,
		"10.9.0.3":                `bacnet.firmware=4.3 | bacnet.instance=4194000 | bacnet.maker=Thornquist Controls | bacnet.model=Climate 900 with a name so long that it takes a segment of its own | bacnet.name=little room | bacnet.vendor-id=999`,
		"10.9.0.4":                `bacnet.behind=2001/05 2005 | bacnet.behind=2001/0c 2012 | bacnet.instance=20 | bacnet.model=Trunk 4 | bacnet.name=router | bacnet.router=2001 | bacnet.vendor-id=999`,
		"10.9.0.4 bacnet/2001/05": `bacnet.firmware=1.1 | bacnet.instance=2005 | bacnet.maker=Thornquist Controls | bacnet.model=Valve 2 | bacnet.name=fern valve | bacnet.vendor-id=999`,
		"10.9.0.4 bacnet/2001/0c": `bacnet.firmware=1.2 | bacnet.instance=2012 | bacnet.maker=Thornquist Controls | bacnet.model=Valve 2 | bacnet.name=moss valve | bacnet.vendor-id=999`,
		"10.9.0.5":                `bacnet.instance=30 | bacnet.model=Climate 10 | bacnet.name=slow | bacnet.vendor-id=999`,
		"10.9.0.11":               `modbus.application=seed vault | modbus.code=T3 | modbus.maker=Bramblecote Metering | modbus.model=Tally 3 | modbus.product=Tally | modbus.revision=2.11`,
		"10.9.0.12":               `modbus.code=SM | modbus.maker=Stilebridge Gateways | modbus.revision=1.0 | modbus.units=behind`,
		"10.9.0.12 modbus/1":      `modbus.code=T3 | modbus.maker=Bramblecote Metering | modbus.revision=2.10`,
		"10.9.0.12 modbus/4":      `modbus.code=S45 | modbus.maker=Larkspur Drives | modbus.revision=3.0`,
		"10.9.0.13":               `modbus.code=S45 | modbus.maker=Larkspur Drives | modbus.revision=3.0 | modbus.units=any`,
		"10.9.0.14":               `modbus.server=Tally 1 meter`,
		"10.9.0.21":               `knx.address=1.1.250 | knx.mac=48:9b:34:00:00:21 | knx.medium=twisted pair | knx.name=Wick KNX coupler | knx.serial=00ab12345678 | knx.service=core 1 | knx.service=device management 1 | knx.service=tunnelling 1`,
		"10.9.0.22":               `cip.code=45 | cip.product=Spindle 45 drive | cip.revision=3.7 | cip.serial=00c0ffee | cip.type=AC drive | cip.vendor-id=900`,
		"10.9.0.23":               `coap.answer=2.05 | coap.resource=/3/0 | coap.resource=/firmware | coap.resource=/set | coap.resource=/temp | coap.title=room, temperature | coap.type=oma.lwm2m | coap.type=setpoint | coap.type=temperature-c`,
		"10.9.0.24":               `opcua.identity=name and password | opcua.name=Panel 7 server | opcua.product=urn:thornquist.example:panel-7 | opcua.security=sign and encrypt, Basic256Sha256 | opcua.type=server | opcua.uri=urn:seed-vault:panel`,
		"10.9.0.25":               `artnet.firmware=2.14 | artnet.mac=48:9b:34:00:00:25 | artnet.maker-id=0000 | artnet.name=balcony | artnet.ports=4 | artnet.product=0000 | artnet.report=#0001 [0001] ready | artnet.style=node | artnet.text=Wick 16 stage node`,
		"10.9.0.26":               `pjlink.class=2 | pjlink.firmware=1.04 | pjlink.maker=Vesperlight Displays | pjlink.model=Beam 7 | pjlink.name=hall | pjlink.security=open to all | pjlink.serial=B7X`,
		"10.9.0.27":               `pjlink.security=wants a password`,
		"10.9.0.28":               `ipmi.sign-in=MD5, password | ipmi.version=2.0`,
		"10.9.0.33":               `coap.answer=2.05 | coap.resource=/ | coap.resource=/1/0 | coap.resource=/3/0 | coap.type=oma.lwm2m | lwm2m.firmware=1.4 | lwm2m.maker=Emberline | lwm2m.model=Ember 2 | lwm2m.serial=EM-2`,
		"10.9.0.37":               `onvif.firmware=5.4.1 | onvif.maker=Lanternfield | onvif.model=Gaze 5 | onvif.serial=LF-5`,
		"10.9.0.38":               `cdp.addr=10.9.0.38 | cdp.capability=host | cdp.capability=telephone | cdp.name=SEP489B34000038 | cdp.platform=Calla 10 | cdp.port=Port 1 | cdp.text=Calla software 3.1 | cdp.vlan=40 | sip.agent=Calla 10 3.1.4 | sip.allow=INVITE, ACK, CANCEL, OPTIONS, BYE | sip.extension=201 | sip.status=200 OK`,
		"10.9.0.36":               `dav.answer=sign-in | dav.class=1, 2 | ftp.anonymous=refused | ftp.greeting=220 ready | ftp.system=UNIX | redfish.id=92384634-2938-2342-8820-489239905423 | redfish.maker=Harrowgate Machines | redfish.name=Root Service | redfish.product=Harrow R2 | redfish.version=1.15.0 | smb.anybody=guest | smb.share=IPC$ (pipes) | smb.share=seeds (disk)`,
		"fd00:9::39":              `bacnet.firmware=6.0 | bacnet.instance=3901 | bacnet.model=Climate 960 | bacnet.name=sixth | bacnet.vendor-id=999`,
		"10.9.0.34":               `artnet.firmware=1.1 | artnet.mac=48:9b:34:00:00:34 | artnet.maker-id=0000 | artnet.name=grid | artnet.ports=4 | artnet.product=0000 | artnet.rdm=7ff0:00000012 | artnet.rdm=7ff0:00000013 | artnet.report=#0001 [0001] ready | artnet.style=node | artnet.text=Wick 4 stage node | artnet.universe=0.1.3`,
		"fe80::4a9b:34ff:fe00:39": `bacnet.instance=3901 | bacnet.vendor-id=999`,
		"10.9.0.35":               `dav.answer=open | dav.class=1, 2 | ftp.anonymous=let in | ftp.greeting=220 ready | ftp.system=UNIX | nfs.export=/home to 10.9.0.0/24, acorn | nfs.export=/pub to everybody | nfs.export=/srv/seeds to everybody | rpc.program=mount 1 udp/635 | rpc.program=mount 3 tcp/635 | rpc.program=nfs 4 tcp/2049 | rpc.program=portmapper 2 tcp/111 | smb.anybody=nobody in particular | smb.share=IPC$ (pipes) | smb.share=ferns (disk) | smb.share=mosses (disk) | smb.share=orchids (disk) | smb.share=seeds (disk)`,
		"10.9.0.29":               `s7.answer=accepted | s7.firmware=3.2.6 | s7.name=borehole | s7.order=TQ 315-2 | s7.serial=S C-1 | s7.type=CPU 315`,
		"10.9.0.30":               `ups.attached=rack: the "rack" supply | ups.program=power manager 2.8`,
		"10.9.0.30 ups/rack":      `ups.firmware=1.4 | ups.maker=Hartsedge Power | ups.model=Ballast 3000 | ups.serial=E7J1`,
		"10.9.0.31":               `mqtt.answer=accepted without a name | mqtt.version=acorn broker 2.0`,
		"10.9.0.32":               `profinet.addr=10.9.0.32 | profinet.device-id=0101 | profinet.gateway=0.0.0.0 | profinet.mask=255.255.255.0 | profinet.name=pump-1 | profinet.role=device | profinet.type=Spindle 45 | profinet.vendor-id=002a`,
		"10.9.0.250":              ``,
	}
	for who, said := range heard {
		if got := strings.Join(said, " | "); got != want[who] {
			t.Errorf("%s said %q, want %q", who, got, want[who])
		}
		delete(want, who)
	}
	for who := range want {
		t.Errorf("%s was not heard at all", who)
	}
}

// readingRoom has controllers of all sizes, and of all manners to give their lists.
const readingRoom = `name: reading room
seed: 4
networks: [{name: plant, subnet: 10.9.0.0/24, latency: 300us}]
vantage: {network: plant, address: 10.9.0.250, mac: "48:9b:34:00:00:fa"}
devices:
  - {name: few, standing: managed, legs: [{network: plant, address: 10.9.0.1, mac: "48:9b:34:00:00:01"}], services: [{port: 47808, speaks: bacnet, tells: {instance: "1", name: few, vendor: "999", objects: "0=40 5=20 200=3"}}]}
  - {name: many, standing: managed, legs: [{network: plant, address: 10.9.0.2, mac: "48:9b:34:00:00:02"}], services: [{port: 47808, speaks: bacnet, tells: {instance: "2", name: many, vendor: "999", objects: "0=300 2=250"}}]}
  - {name: one at a time, standing: managed, legs: [{network: plant, address: 10.9.0.3, mac: "48:9b:34:00:00:03"}], services: [{port: 47808, speaks: bacnet, tells: {instance: "3", name: single, vendor: "999", objects: "0=290", knows: single}}]}
  - {name: cut, standing: managed, legs: [{network: plant, address: 10.9.0.4, mac: "48:9b:34:00:00:04"}], services: [{port: 47808, speaks: bacnet, tells: {instance: "4", name: cut, vendor: "999", objects: "0=100 3=99", list: cut}}]}
  - {name: panel, standing: managed, legs: [{network: plant, address: 10.9.0.6, mac: "48:9b:34:00:00:06"}], services: [{port: 4840, speaks: opcua, tells: {name: panel, uri: "urn:panel", open: "yes", root: "object=5 variable=2 method=1"}}]}
  - {name: shut panel, standing: managed, legs: [{network: plant, address: 10.9.0.7, mac: "48:9b:34:00:00:07"}], services: [{port: 4840, speaks: opcua, tells: {name: shut, uri: "urn:shut", root: "object=5"}}]}
  - {name: router, standing: managed, legs: [{network: plant, address: 10.9.0.5, mac: "48:9b:34:00:00:05"}], services: [{port: 47808, speaks: bacnet, tells: {instance: "5", name: router, vendor: "999", behind: "2001/05=2005/fern valve/Thornquist Controls/Valve 2/1.1"}}]}
`

// Where a sweep is to read how much systems offer, their objects are counted by type, of those behind others too, and where a list ends too
// early it is said how far it went.
func TestReadingRoomIsCounted(t *testing.T) {
	heard := heardWith(t, readingRoom, func(o *sweep.Order) { o.Read = true })
	want := map[string]string{
		"10.9.0.1":                "bacnet.objects=analog input: 40 | bacnet.objects=binary value: 20 | bacnet.objects=maker's own: 3 | bacnet.points=63",
		"10.9.0.2":                "bacnet.objects=analog input: 300 | bacnet.objects=analog value: 250 | bacnet.points=550",
		"10.9.0.3":                "bacnet.objects=analog input: 290 | bacnet.points=290",
		"10.9.0.4":                "bacnet.list-cut=100 of 200 | bacnet.objects=analog input: 99 | bacnet.points=99",
		"10.9.0.5":                "bacnet.points=0",
		"10.9.0.6":                "opcua.root=method: 1 | opcua.root=object: 5 | opcua.root=variable: 2",
		"10.9.0.7":                "",
		"10.9.0.5 bacnet/2001/05": "bacnet.points=0",
	}
	for who, text := range want {
		counted := slices.DeleteFunc(slices.Clone(heard[who]), func(fact string) bool {
			return !strings.HasPrefix(fact, "bacnet.objects") && !strings.HasPrefix(fact, "bacnet.points") && !strings.HasPrefix(fact, "bacnet.list-cut") && !strings.HasPrefix(fact, "opcua.root")
		})
		if got := strings.Join(counted, " | "); got != text {
			t.Errorf("%s: %s, want %s", who, got, text)
		}
	}
	for who, facts := range heardWith(t, readingRoom, func(*sweep.Order) {}) {
		if slices.ContainsFunc(facts, func(fact string) bool {
			return strings.HasPrefix(fact, "bacnet.points") || strings.HasPrefix(fact, "opcua.root")
		}) {
			t.Errorf("%s was read though nobody wanted it", who)
		}
	}
}

// A reading that is broken off goes on from within the device, and counts nothing twice.
func TestReadingGoesOnWithinADevice(t *testing.T) {
	scenario, err := simsite.Load("one", []byte(`name: one
seed: 4
networks: [{name: plant, subnet: 10.9.0.0/29, latency: 300us}]
vantage: {network: plant, address: 10.9.0.6, mac: "48:9b:34:00:00:fa"}
devices:
  - {name: many, standing: managed, legs: [{network: plant, address: 10.9.0.1, mac: "48:9b:34:00:00:01"}], services: [{port: 47808, speaks: bacnet, tells: {instance: "2", name: many, vendor: "999", objects: "0=3000 2=999"}}]}
`))
	if err != nil {
		t.Fatal(err)
	}
	site, err := simsite.Start(scenario)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = site.Close() })
	w, err := site.Wire()
	if err != nil {
		t.Fatal(err)
	}
	order := sweep.Order{Fence: scenario.Subnets(), Ranges: scenario.Ranges(), Pace: sweep.Brisk, Seed: 1, Read: true}
	run := func(order sweep.Order, watch func(p sweep.Progress, stop func())) (sweep.Summary, map[evidence.Who]evidence.Sighting) {
		t.Helper()
		ctx, stop := context.WithCancel(t.Context())
		defer stop()
		seen := map[evidence.Who]evidence.Sighting{}
		summary, err := sweep.Run(ctx, w, order, func(e sweep.Event) {
			switch e := e.(type) {
			case sweep.Sighted:
				seen[e.Sighting.Who()] = e.Sighting
			case sweep.Progress:
				watch(e, stop)
			}
		})
		if err != nil {
			t.Fatal(err)
		}
		return summary, seen
	}
	next := func(at sweep.Resume) int {
		for _, r := range at.Readings {
			return r.Next
		}
		return 0
	}
	slow := order
	slow.Pace.Rate, slow.Pace.Broadcasts = 60, 60
	broken, seen := run(slow, func(p sweep.Progress, stop func()) {
		if next(p.At) > 0 {
			stop()
		}
	})
	from := next(broken.At)
	if !broken.Stopped || from == 0 || from >= 4000 {
		t.Fatalf("broken off at %+v", broken)
	}
	order.Resume = broken.At
	for _, s := range seen {
		order.Known = append(order.Known, s)
	}
	_, seen = run(order, func(p sweep.Progress, _ func()) {
		if n := next(p.At); n > 0 && n < from {
			t.Errorf("it is read from %d on, want from %d", n, from)
		}
	})
	var counted []string
	for _, s := range seen {
		for _, it := range s.Items {
			if strings.HasPrefix(it.Key, "bacnet.objects") || it.Key == "bacnet.points" {
				counted = append(counted, it.Key+"="+it.Value)
			}
		}
	}
	if want := []string{"bacnet.objects=analog input: 3000", "bacnet.objects=analog value: 999", "bacnet.points=3999"}; !slices.Equal(counted, want) {
		t.Errorf("%q, want %q", counted, want)
	}
}
