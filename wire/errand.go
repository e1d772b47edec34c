package wire

import "github.com/google/uuid"

// Errand is something that central asks a device to do, once all else in an exchange is done.
type Errand struct {
	ID   uuid.UUID `json:"id" format:"uuid"`
	What string    `json:"what" doc:"verify: compare what is here with central, and fetch anew what differs. erase: let go of the whole store, as soon as central has accepted everything in it. A device that does not know the word says so."`
}

// What a device may be asked to do.
const (
	ErrandVerify = "verify"
	ErrandErase  = "erase"
)

// ErrandDone is what became of an errand.
type ErrandDone struct {
	ID       uuid.UUID            `json:"id" format:"uuid"`
	Done     bool                 `json:"done" doc:"It is done; a store that is to be erased goes as soon as this has come. An errand that is not done is told again with the next exchange."`
	Why      string               `json:"why,omitempty" maxLength:"500" doc:"Why not, in words."`
	Verified []CollectionVerified `json:"verified,omitempty" maxItems:"1000" doc:"What was found, by collection."`
}

// CollectionVerified is what a device found as it compared a collection with central.
type CollectionVerified struct {
	Collection  string `json:"collection"`
	Records     int    `json:"records" minimum:"0" doc:"That both sides should hold."`
	Differences int    `json:"differences" minimum:"0" doc:"Records over which they did not agree."`
	Mended      int    `json:"mended" minimum:"0" doc:"Of these, fetched anew."`
}
