// Package driver is the line protocol by which a device in any language is driven: a program that reads one JSON
// object a line from its standard input, does what it says with a local store, and writes one JSON object a line to
// its standard output. [Serve] is such a program around package device, and [Program] is the side that drives.
//
// One thing is asked at a time:
//
//	{"ask":1,"do":"open","clock":{"now":"2026-06-01T06:00:00Z","boot":"one","since_ns":60000000000},
//	 "with":{"path":"/tmp/a.db","network":"http://127.0.0.1:4001","ids":"01f3a9"}}
//	{"ask":1,"done":{}}
//	{"ask":2,"do":"add","clock":{…},"with":{"collection":"trails","fields":{"name":"Ridge Path"}}}
//	{"changed":{"collection":"trails","id":"…"}}
//	{"ask":2,"done":{"collection":"trails","id":"…","fields":{"name":"Ridge Path"},…}}
//	{"ask":3,"do":"edit","clock":{…},"with":{"collection":"huts","id":"…","fields":{}}}
//	{"ask":3,"failed":{"name":"no-collection","message":"no such collection on this device"}}
//
// The clock of the device is what the last line, or the header of the last answer from the network, has said
// ([ClockHeader]). Requests to central go to the network's address in place of central's: path and query as they are
// behind it. What is not answered there was lost. The program is killed when a device is.
package driver
