package evidence

// The sources there are.
const (
	SourceARP      Source = "arp"      // RFC 826
	SourceND       Source = "nd"       // RFC 4861
	SourceEcho     Source = "echo"     // RFC 792, RFC 4443
	SourceICMP     Source = "icmp"     // RFC 792, RFC 4443
	SourceTCP      Source = "tcp"      // the answer to an attempt to connect
	SourceStack    Source = "stack"    // how its TCP/IP is set up (RFC 9293)
	SourceHTTP     Source = "http"     // RFC 9110
	SourceTLS      Source = "tls"      // RFC 8446
	SourceSSH      Source = "ssh"      // RFC 4253
	SourceFTP      Source = "ftp"      // RFC 959
	SourceMail     Source = "mail"     // RFC 5321, RFC 1939, RFC 9051
	SourceRTSP     Source = "rtsp"     // RFC 7826
	SourceDNS      Source = "dns"      // RFC 1035
	SourceSelf     Source = "self"     // the auditor's own machine, which knows itself
	SourceText     Source = "text"     // banner of a service that is none of the above
	SourceSNMP     Source = "snmp"     // RFC 3411 to 3418
	SourceMDNS     Source = "mdns"     // RFC 6762, RFC 6763
	SourceLLMNR    Source = "llmnr"    // RFC 4795
	SourceNetBIOS  Source = "netbios"  // RFC 1002
	SourceUPnP     Source = "upnp"     // UPnP Device Architecture 2.0
	SourceWSD      Source = "wsd"      // OASIS WS-Discovery 1.1
	SourceONVIF    Source = "onvif"    // ONVIF Core Specification
	SourceSIP      Source = "sip"      // RFC 3261
	SourceLLDP     Source = "lldp"     // IEEE 802.1AB
	SourceCDP      Source = "cdp"      // a discovery protocol of the segment, as it is heard
	SourceSMB      Source = "smb"      // MS-SMB2
	SourceRPC      Source = "rpc"      // RFC 5531
	SourceRDP      Source = "rdp"      // MS-RDPBCGR
	SourceVNC      Source = "vnc"      // RFC 6143
	SourceMQTT     Source = "mqtt"     // OASIS MQTT 3.1.1
	SourceIPP      Source = "ipp"      // RFC 8011
	SourcePJL      Source = "pjl"      // the printer job language's own status answers
	SourceNTP      Source = "ntp"      // RFC 5905
	SourceLDAP     Source = "ldap"     // RFC 4512
	SourceModbus   Source = "modbus"   // Modbus Application Protocol 1.1b3
	SourceBACnet   Source = "bacnet"   // ASHRAE 135
	SourceKNX      Source = "knx"      // ISO 22510
	SourceCIP      Source = "cip"      // EtherNet/IP, ODVA
	SourceUPS      Source = "ups"      // RFC 9271
	SourceCoAP     Source = "coap"     // RFC 7252
	SourceOPCUA    Source = "opcua"    // IEC 62541
	SourceArtNet   Source = "artnet"   // Art-Net 4
	SourcePJLink   Source = "pjlink"   // JBMIA PJLink
	SourceRedfish  Source = "redfish"  // DMTF DSP0266
	SourceIPMI     Source = "ipmi"     // IPMI 2.0
	SourceS7       Source = "s7"       // ISO 8073 over RFC 1006
	SourcePTP      Source = "ptp"      // IEEE 1588
	SourceSACN     Source = "sacn"     // ANSI E1.31
	SourceSAP      Source = "sap"      // RFC 2974
	SourcePROFINET Source = "profinet" // IEC 61158
	SourceLease    Source = "lease"    // a DHCP server's list of leases, imported
	SourceSweep    Source = "sweep"    // what the sweep itself did
)

// Keys of the facts that others than the protocol that gives them know by name. The other keys stand with their protocols;
// docs/evidence.md has all of them.
const (
	KeyMAC      = "arp.mac"
	KeyHeard    = "arp.heard"
	KeyVLAN     = "arp.vlan"
	KeyNDMAC    = "nd.mac"
	KeyNDRouter = "nd.router"
	KeyEchoTTL  = "echo.ttl"

	KeyTCPEvery   = "tcp.every"
	KeyTCPOpen    = "tcp.open"
	KeyTCPRefused = "tcp.refused"
	KeyTCPStopped = "tcp.stopped"
	KeyTCPSilent  = "tcp.silent"
	KeyStack      = "stack.syn"

	KeyPTR  = "dns.ptr"
	KeySelf = "self.name"

	KeyHTTPStatus = "http.status"
	KeyHTTPTitle  = "http.title"
	KeyHTTPServer = "http.server"

	KeyTLSSubject = "tls.subject"
	KeyTLSIssuer  = "tls.issuer"
	KeyTLSName    = "tls.name"
	KeyTLSFrom    = "tls.from"
	KeyTLSUntil   = "tls.until"
	KeyTLSVersion = "tls.version"
	KeyTLSKey     = "tls.key"

	KeySSHGreeting = "ssh.greeting"
	KeyFTPGreeting = "ftp.greeting"
	KeyText        = "text.greeting"

	KeySNMPCredential = "snmp.credential"
	KeySNMPEngineFrom = "snmp.engine-enterprise"
	KeySNMPDescr      = "snmp.sysDescr"
	KeySNMPObject     = "snmp.sysObjectID"
	KeySNMPEnterprise = "snmp.enterprise"
	KeySNMPName       = "snmp.sysName"
	KeySNMPServices   = "snmp.sysServices"
	KeySNMPMIB        = "snmp.mib"
	KeySNMPInterface  = "snmp.interface"
	KeySNMPPart       = "snmp.part"
	KeySNMPSerial     = "snmp.serial"
	KeySNMPBounded    = "snmp.bounded"

	KeyMDNSHost     = "mdns.host"
	KeyMDNSType     = "mdns.type"
	KeyMDNSInstance = "mdns.instance"
	KeyMDNSText     = "mdns.txt"
	KeyWSDScope     = "wsd.scope"

	KeyBACnetInstance = "bacnet.instance"
	KeyBACnetPoints   = "bacnet.points"
	KeyBACnetObjects  = "bacnet.objects"
	KeyBACnetCut      = "bacnet.list-cut"
	KeyMQTTAnswer     = "mqtt.answer"

	KeyUPnPServer   = "upnp.server"
	KeyUPnPLocation = "upnp.location"
	KeyUPnPMaker    = "upnp.maker"

	KeyWSDAddress = "wsd.address"
	KeyWSDID      = "wsd.id"

	KeyLLDPName = "lldp.name"

	KeyIPPModel  = "ipp.model"
	KeyIPPDevice = "ipp.device"

	KeyICMP = "icmp.unreachable"

	KeyCut    = "sweep.cut"
	KeyLost   = "sweep.lost"
	KeySame   = "sweep.same"
	KeyPinned = "sweep.pinned"
	KeyTimes  = "sweep.times"

	KeyLeaseName   = "lease.name"
	KeyLeaseMAC    = "lease.mac"
	KeyLeaseUntil  = "lease.until"
	KeyLeaseClient = "lease.client"
)
