package probe

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"io"
	"net"
	"net/netip"
	"slices"
	"time"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyMQTTVersion = "mqtt.version"
)

var _ = register(Protocol{
	Name: "mqtt", Source: evidence.SourceMQTT, Cost: Light,
	Ports: []uint16{1883}, Telling: []uint16{1883}, Talk: talkMQTT,
	Facts: []evidence.Fact{
		{Key: evidence.KeyMQTTAnswer, Says: "whether the broker lets anybody in", Standard: "OASIS MQTT 3.1.1, 3.2", Example: "refused: not authorised"},
		{Key: keyMQTTVersion, Says: "what the broker is, where it lets anybody in and tells", Standard: "common practice of brokers, $SYS/broker/version", Example: "acorn broker 2.0", Names: 9, Describes: true},
	},
})

// The facts of MQTT within TLS are those of both.
var _ = register(Protocol{
	Name: "mqtts", Source: evidence.SourceMQTT, Cost: Middling,
	Ports: []uint16{8883}, Telling: []uint16{8883}, Talk: talkMQTTS,
})

// mqttConnect asks for a session that leaves nothing behind (OASIS MQTT 3.1.1, 3.1), mqttDisconnect ends it (3.14).
var (
	mqttConnect    = []byte{0x10, 20, 0, 4, 'M', 'Q', 'T', 'T', 4, 2, 0, 10, 0, 8, 'a', 'i', 'r', 'd', 'r', 'i', 'f', 't'}
	mqttDisconnect = []byte{0xe0, 0}
)

// mqttAnswers are the return codes of 3.1.1 (3.2.2.3).
var mqttAnswers = map[byte]string{0: "accepted without a name", 1: "refused: version", 2: "refused: identifier", 3: "refused: unavailable", 4: "refused: name or password", 5: "refused: not authorised"}

// mqttVersion is where brokers tell what they are, and mqttSubscribe asks for it; the answer is kept there, so that it comes at once (OASIS MQTT
// 3.1.1, 3.3.1.3, 3.8).
const mqttVersion = "$SYS/broker/version"

var mqttSubscribe = slices.Concat([]byte{0x82, byte(5 + len(mqttVersion)), 0, 1, 0, byte(len(mqttVersion))}, []byte(mqttVersion), []byte{0})

const (
	mqttPublish     = 3
	maxMQTTPackets  = 8    // that are looked at
	maxMQTTPacket   = 4096 // bytes
	mqttKeptMessage = 0x01 // set where a message was kept
)

// talkMQTT learns whether a broker lets anybody in, and then what it is. The session ends with the connection and leaves nothing behind, and nothing
// is published.
func talkMQTT(_ context.Context, conn net.Conn, _ netip.AddrPort, f *found) {
	if _, err := conn.Write(mqttConnect); err != nil {
		return
	}
	answer := make([]byte, 4)
	if _, err := io.ReadFull(conn, answer); err != nil || answer[0] != 0x20 || answer[1] < 2 {
		return
	}
	f.add(evidence.SourceMQTT, evidence.KeyMQTTAnswer, []byte(mqttAnswers[answer[3]]))
	if answer[3] == 0 {
		_ = conn.SetDeadline(time.Now().Add(greetingWait))
		if _, err := conn.Write(mqttSubscribe); err == nil {
			readMQTTVersion(bufio.NewReader(conn), f)
		}
		_ = conn.SetDeadline(time.Now().Add(greetingWait))
	}
	_, _ = conn.Write(mqttDisconnect) // a courtesy; we are going anyway
}

// readMQTTVersion reads packets until the message that was asked for comes.
func readMQTTVersion(r *bufio.Reader, f *found) {
	for range maxMQTTPackets {
		head, err := r.ReadByte()
		length, errLength := binary.ReadUvarint(r) // the same form as the length of a packet (2.2.3)
		if err != nil || errLength != nil || length > maxMQTTPacket {
			return
		}
		body := make([]byte, length)
		if _, err := io.ReadFull(r, body); err != nil {
			return
		}
		if head>>4 != mqttPublish || head&6 != 0 || head&mqttKeptMessage == 0 {
			continue
		}
		if payload, ok := bytes.CutPrefix(body, slices.Concat([]byte{0, byte(len(mqttVersion))}, []byte(mqttVersion))); ok {
			f.add(evidence.SourceMQTT, keyMQTTVersion, payload)
			return
		}
	}
}

// talkMQTTS is MQTT within TLS.
func talkMQTTS(ctx context.Context, conn net.Conn, addr netip.AddrPort, f *found) {
	if secured := secure(ctx, conn, f); secured != nil {
		talkMQTT(ctx, secured, addr, f)
	}
}
