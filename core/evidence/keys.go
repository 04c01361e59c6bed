package evidence

// The sources there are.
const (
	SourceARP     Source = "arp"     // RFC 826
	SourceND      Source = "nd"      // RFC 4861
	SourceEcho    Source = "echo"    // RFC 792, RFC 4443
	SourceTCP     Source = "tcp"     // the answer to an attempt to connect
	SourceStack   Source = "stack"   // how its TCP/IP is set up (RFC 9293)
	SourceHTTP    Source = "http"    // RFC 9110
	SourceTLS     Source = "tls"     // RFC 8446
	SourceSSH     Source = "ssh"     // RFC 4253
	SourceFTP     Source = "ftp"     // RFC 959
	SourceMail    Source = "mail"    // RFC 5321, RFC 1939, RFC 9051
	SourceRTSP    Source = "rtsp"    // RFC 7826
	SourceDNS     Source = "dns"     // RFC 1035
	SourceSelf    Source = "self"    // the auditor's own machine, which knows itself
	SourceText    Source = "text"    // first words of a service that is none of the above
	SourceSNMP    Source = "snmp"    // RFC 3411 to 3418
	SourceMDNS    Source = "mdns"    // RFC 6762, RFC 6763
	SourceLLMNR   Source = "llmnr"   // RFC 4795
	SourceNetBIOS Source = "netbios" // RFC 1002
	SourceUPnP    Source = "upnp"    // UPnP Device Architecture 2.0
	SourceWSD     Source = "wsd"     // OASIS WS-Discovery 1.1
	SourceSIP     Source = "sip"     // RFC 3261
	SourceLLDP    Source = "lldp"    // IEEE 802.1AB
	SourceSMB     Source = "smb"     // MS-SMB2
	SourceRDP     Source = "rdp"     // MS-RDPBCGR
	SourceVNC     Source = "vnc"     // RFC 6143
	SourceMQTT    Source = "mqtt"    // OASIS MQTT 3.1.1
	SourceIPP     Source = "ipp"     // RFC 8011
	SourcePJL     Source = "pjl"     // the printer job language's own status answers
	SourceNTP     Source = "ntp"     // RFC 5905
	SourceLDAP    Source = "ldap"    // RFC 4512
	SourceLease   Source = "lease"   // a DHCP server's list of leases, imported
)

// Keys of the facts there are; docs/evidence.md gives the meaning and an example of each.
const (
	KeyMAC      = "arp.mac"
	KeyHeard    = "arp.heard"
	KeyNDMAC    = "nd.mac"
	KeyNDRouter = "nd.router"
	KeyEchoTTL  = "echo.ttl"

	KeyTCPEvery   = "tcp.every"
	KeyTCPOpen    = "tcp.open"
	KeyTCPRefused = "tcp.refused"
	KeyTCPStopped = "tcp.stopped"
	KeyStack      = "stack.syn"

	KeyPTR  = "dns.ptr"
	KeySelf = "self.name"

	KeyHTTPStatus    = "http.status"
	KeyHTTPTitle     = "http.title"
	KeyHTTPServer    = "http.server"
	KeyHTTPRealm     = "http.realm"
	KeyHTTPMoved     = "http.redirect"
	KeyHTTPGenerator = "http.generator"
	KeyHTTPLink      = "http.link"
	KeyHTTPText      = "http.text"
	KeyHTTPIcon      = "http.icon"

	KeyTLSSubject  = "tls.subject"
	KeyTLSOrg      = "tls.organisation"
	KeyTLSIssuer   = "tls.issuer"
	KeyTLSName     = "tls.name"
	KeyTLSFrom     = "tls.from"
	KeyTLSUntil    = "tls.until"
	KeyTLSVersion  = "tls.version"
	KeyTLSProtocol = "tls.protocol"
	KeyTLSKey      = "tls.key"

	KeySSHGreeting   = "ssh.greeting"
	KeySSHHostKey    = "ssh.hostkey"
	KeySSHAlgorithms = "ssh.algorithms"
	KeyFTPGreeting   = "ftp.greeting"
	KeyFTPSystem     = "ftp.system"
	KeySMTP          = "mail.smtp"
	KeySMTPHello     = "mail.hello"
	KeyPOP           = "mail.pop"
	KeyIMAP          = "mail.imap"
	KeyRTSPServer    = "rtsp.server"
	KeyRTSPStatus    = "rtsp.status"
	KeyRTSPRealm     = "rtsp.realm"
	KeyTelnet        = "text.telnet"
	KeyTelnetOptions = "text.telnet-options"
	KeyText          = "text.greeting"

	KeySNMPVersion    = "snmp.version"
	KeySNMPCredential = "snmp.credential"
	KeySNMPDefault    = "snmp.default"
	KeySNMPEngine     = "snmp.engine"
	KeySNMPEngineFrom = "snmp.engine-enterprise"
	KeySNMPDescr      = "snmp.sysDescr"
	KeySNMPObject     = "snmp.sysObjectID"
	KeySNMPEnterprise = "snmp.enterprise"
	KeySNMPName       = "snmp.sysName"
	KeySNMPLocation   = "snmp.sysLocation"
	KeySNMPContact    = "snmp.sysContact"
	KeySNMPServices   = "snmp.sysServices"
	KeySNMPUptime     = "snmp.sysUpTime"
	KeySNMPForwarding = "snmp.forwarding"
	KeySNMPMIB        = "snmp.mib"
	KeySNMPInterface  = "snmp.interface"
	KeySNMPPart       = "snmp.part"
	KeySNMPMaker      = "snmp.maker"
	KeySNMPModel      = "snmp.model"
	KeySNMPSerial     = "snmp.serial"
	KeySNMPFirmware   = "snmp.firmware"
	KeySNMPHardware   = "snmp.hardware"
	KeySNMPSoftware   = "snmp.software"
	KeySNMPDevice     = "snmp.device"
	KeySNMPOS         = "snmp.os"
	KeySNMPBounded    = "snmp.bounded"

	KeyMDNSHost     = "mdns.host"
	KeyMDNSType     = "mdns.type"
	KeyMDNSInstance = "mdns.instance"
	KeyMDNSText     = "mdns.txt"
	KeyMDNSModel    = "mdns.model"
	KeyMDNSAddr     = "mdns.addr"
	KeyLLMNR        = "llmnr.name"
	KeyNetBIOSName  = "netbios.name"
	KeyNetBIOSGroup = "netbios.group"
	KeyNetBIOSRole  = "netbios.role"
	KeyNetBIOSMAC   = "netbios.mac"

	KeyUPnPServer   = "upnp.server"
	KeyUPnPTarget   = "upnp.target"
	KeyUPnPLocation = "upnp.location"
	KeyUPnPType     = "upnp.type"
	KeyUPnPMaker    = "upnp.maker"
	KeyUPnPModel    = "upnp.model"
	KeyUPnPNumber   = "upnp.number"
	KeyUPnPText     = "upnp.text"
	KeyUPnPName     = "upnp.name"
	KeyUPnPSerial   = "upnp.serial"
	KeyUPnPID       = "upnp.id"

	KeyWSDType     = "wsd.type"
	KeyWSDScope    = "wsd.scope"
	KeyWSDAddress  = "wsd.address"
	KeyWSDID       = "wsd.id"
	KeyWSDMaker    = "wsd.maker"
	KeyWSDModel    = "wsd.model"
	KeyWSDNumber   = "wsd.number"
	KeyWSDName     = "wsd.name"
	KeyWSDFirmware = "wsd.firmware"
	KeyWSDSerial   = "wsd.serial"
	KeyWSDComputer = "wsd.computer"
	KeyWSDProgram  = "wsd.program"

	KeySIPStatus = "sip.status"
	KeySIPAgent  = "sip.agent"
	KeySIPServer = "sip.server"
	KeySIPAllow  = "sip.allow"

	KeyLLDPChassis    = "lldp.chassis"
	KeyLLDPPort       = "lldp.port"
	KeyLLDPPortText   = "lldp.port-text"
	KeyLLDPName       = "lldp.name"
	KeyLLDPText       = "lldp.text"
	KeyLLDPCapability = "lldp.capability"
	KeyLLDPAddr       = "lldp.addr"
	KeyLLDPInventory  = "lldp.inventory"

	KeySMBDialect  = "smb.dialect"
	KeySMBID       = "smb.id"
	KeySMBTime     = "smb.time"
	KeySMBSigning  = "smb.signing"
	KeyRDPSecurity = "rdp.security"
	KeyVNCVersion  = "vnc.version"
	KeyVNCSecurity = "vnc.security"
	KeyMQTTAnswer  = "mqtt.answer"

	KeyIPPModel    = "ipp.model"
	KeyIPPName     = "ipp.name"
	KeyIPPInfo     = "ipp.info"
	KeyIPPLocation = "ipp.location"
	KeyIPPDevice   = "ipp.device"
	KeyIPPFirmware = "ipp.firmware"
	KeyIPPState    = "ipp.state"
	KeyIPPVersion  = "ipp.version"
	KeyIPPURI      = "ipp.uri"
	KeyIPPID       = "ipp.id"

	KeyPJLID     = "pjl.id"
	KeyPJLStatus = "pjl.status"

	KeyNTPVersion   = "ntp.version"
	KeyNTPStratum   = "ntp.stratum"
	KeyNTPReference = "ntp.reference"

	KeyLDAPVendor    = "ldap.vendor"
	KeyLDAPVersion   = "ldap.version"
	KeyLDAPContext   = "ldap.context"
	KeyLDAPHost      = "ldap.host"
	KeyLDAPDirectory = "ldap.directory"

	KeyLeaseName   = "lease.name"
	KeyLeaseMAC    = "lease.mac"
	KeyLeaseUntil  = "lease.until"
	KeyLeaseClient = "lease.client"
)

// Described are the facts in which a device describes itself in words of its maker. Rules may name them together.
var Described = []string{
	KeyHTTPTitle, KeyHTTPRealm, KeyFTPGreeting, KeyTelnet, KeySMTP, KeySNMPDescr, KeySNMPDevice, KeySNMPModel, KeyMDNSInstance, KeyMDNSModel,
	KeyWSDModel, KeyWSDName, KeyUPnPModel, KeyUPnPText, KeyUPnPName, KeyIPPModel, KeyIPPInfo, KeyLLDPText, KeySIPAgent, KeySIPServer, KeyRTSPServer, KeyRTSPRealm, KeyPJLID,
	KeyTLSSubject,
}
