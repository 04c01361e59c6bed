package secret

import (
	"bytes"
	"encoding/json"
	"fmt"
	"log/slog"
	"strings"
	"testing"
)

func TestNoWayOut(t *testing.T) {
	const word = "heron-47"
	holder := struct {
		Name string
		Key  Text
	}{"plant", New(word)}
	var log bytes.Buffer
	slog.New(slog.NewJSONHandler(&log, nil)).Info("credential", "it", holder, "key", holder.Key)
	encoded, err := json.Marshal(holder)
	if err != nil {
		t.Fatal(err)
	}
	ways := []string{log.String(), string(encoded), fmt.Sprint(holder), fmt.Sprintf("%v %+v %#v %s %q %x %d", holder, holder, holder, holder.Key, holder.Key, holder.Key, holder.Key)}
	for _, way := range ways {
		if strings.Contains(way, word) || strings.Contains(way, fmt.Sprintf("%x", word)) {
			t.Errorf("the secret is told: %s", way)
		}
	}
	if holder.Key.Reveal() != word || holder.Key.IsZero() || !New("").IsZero() {
		t.Error("the secret is lost")
	}
}
