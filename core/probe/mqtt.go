package probe

import (
	"context"
	"io"
	"net"
	"net/netip"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyMQTTAnswer = "mqtt.answer"
)

var _ = register(Protocol{
	Name: "mqtt", Source: evidence.SourceMQTT, Cost: Light,
	Ports: []uint16{1883}, Telling: []uint16{1883}, Talk: talkMQTT,
	Facts: []evidence.Fact{
		{Key: keyMQTTAnswer, Says: "whether the broker lets anybody in", Standard: "OASIS MQTT 3.1.1, 3.2", Example: "refused: not authorised"},
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

// talkMQTT learns whether a broker lets anybody in. Nothing is subscribed to and nothing published.
func talkMQTT(_ context.Context, conn net.Conn, _ netip.AddrPort, f *found) {
	if _, err := conn.Write(mqttConnect); err != nil {
		return
	}
	answer := make([]byte, 4)
	if _, err := io.ReadFull(conn, answer); err != nil || answer[0] != 0x20 || answer[1] < 2 {
		return
	}
	f.add(evidence.SourceMQTT, keyMQTTAnswer, []byte(mqttAnswers[answer[3]]))
	_, _ = conn.Write(mqttDisconnect) // a courtesy; we are going anyway
}

// talkMQTTS is MQTT within TLS.
func talkMQTTS(ctx context.Context, conn net.Conn, addr netip.AddrPort, f *found) {
	if secured := secure(ctx, conn, f); secured != nil {
		talkMQTT(ctx, secured, addr, f)
	}
}
