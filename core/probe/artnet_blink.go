package probe

import (
	"bytes"
	"context"
	"encoding/binary"
	"time"

	"airdrift/core/evidence"
)

const (
	artNetAddress = 0x6000
	artNetKeep    = 0x7f // leaves a setting as it is
	artNetNormal  = 2    // of the lights at the front
	artNetLocate  = 4
	// artNetBlinks is how long a node shows itself before it is told to go back to what it does.
	artNetBlinks = 8 * time.Second
)

// artNetCanBlink reports whether somebody is a node of a stage, whose lights can be told to blink.
func artNetCanBlink(known []evidence.Item) bool {
	return evidence.First(known, keyArtNetStyle) == "node"
}

// artNetCommand leaves all settings of a node as they are, and says what its lights are to do (Art-Net 4, ArtAddress).
func artNetCommand(command byte) []byte {
	message := binary.LittleEndian.AppendUint16(bytes.Clone(artNetID), artNetAddress)
	message = append(message, 0, artNetVersion, artNetKeep, 0)
	message = append(message, make([]byte, 18+64)...) // empty names are none
	message = append(message, bytes.Repeat([]byte{artNetKeep}, 4+4+1)...)
	return append(message, 0xff, command)
}

// artNetBlink has the lights of a node blink for some seconds.
func artNetBlink(ctx context.Context, q Query, _ []evidence.Item) error {
	_, to := q.byDatagram(artNetPort)
	conn, err := q.Dialer.Dial(ctx, "udp", to, q.Wait)
	if err != nil {
		return err
	}
	defer conn.Close()
	if _, err := conn.Write(artNetCommand(artNetLocate)); err != nil {
		return err
	}
	timer := time.NewTimer(artNetBlinks)
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-ctx.Done(): // it is told to end all the same
	}
	_, err = conn.Write(artNetCommand(artNetNormal))
	return err
}
