package file

import (
	"context"
	"encoding/json"
	"time"

	"homing/core/settings"
)

// Kept are the settings that central has said, as a store keeps them.
type Kept struct {
	settings.Told
	At time.Time `json:"at"` // when they were taken over, by the device's clock
}

// Settings are what central has said of how this device behaves.
func Settings(ctx context.Context, r Runner) (kept Kept, err error) {
	text, err := Fact(ctx, r, FactSettings)
	if err == nil && text != "" && json.Unmarshal([]byte(text), &kept) != nil {
		err = ErrDamaged
	}
	return kept, err
}

// KeepSettings takes over what central says; nothing where that is what it said before.
func KeepSettings(ctx context.Context, r Runner, told *settings.Told, now time.Time) error {
	if told == nil {
		told = &settings.Told{}
	}
	known, err := Settings(ctx, r)
	if err != nil || known.Digest == told.Digest {
		return err
	}
	text, err := json.Marshal(Kept{*told, now.UTC()})
	if err != nil {
		return err
	}
	return SetFact(ctx, r, FactSettings, string(text))
}

// Untold is what central is to hear of the settings that this device goes by; nil where it has heard.
func Untold(ctx context.Context, r Runner) (*settings.Applied, error) {
	kept, err := Settings(ctx, r)
	if err != nil {
		return nil, err
	}
	told, err := Fact(ctx, r, FactSettingsTold)
	if err != nil || told == kept.Digest {
		return nil, err
	}
	return &settings.Applied{Digest: kept.Digest, At: kept.At, Unknown: kept.Values.Unknown()}, nil
}
