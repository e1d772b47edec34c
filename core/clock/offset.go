package clock

import "time"

// Offset is how far a device's clock is behind central's: add By to the device's time to get central's. The true offset
// lies within Error of By.
type Offset struct {
	By    time.Duration
	Error time.Duration
}

// Measure takes the four times of one question and its answer: sent and back by the device's clock, received and
// answered by central's. The round trip bounds the error, as in RFC 5905, section 8.
func Measure(sent, received, answered, back time.Time) Offset {
	return Offset{
		By:    (received.Sub(sent) + answered.Sub(back)) / 2,
		Error: max((back.Sub(sent)-answered.Sub(received))/2, 0),
	}
}

// Believe checks what a device says of its own clock against what central can see: a batch sent at sent by the
// device's clock was received at received. Since no batch arrives before it is sent, received-sent is the offset plus
// the time under way. A measurement that does not fit within tolerance under way is set aside for central's own.
// Whether the clock was wrong or the batch was late nobody can tell, so the error is as large as the two differ.
func (o Offset) Believe(sent, received time.Time, tolerance time.Duration) Offset {
	seen := received.Sub(sent)
	if underWay := seen - o.By; underWay >= -o.Error-time.Millisecond && underWay <= tolerance+o.Error {
		return o
	}
	return Offset{By: seen, Error: max(tolerance, (seen - o.By).Abs())}
}

// Turned is the offset that the clock had before it was turned forward by so much.
func (o Offset) Turned(by time.Duration) Offset {
	o.By += by
	return o
}

// Correct is the stamp that an edit gets in central's time. An edit dated after its receipt counts as of its receipt.
func (o Offset) Correct(stamp Stamp, received time.Time) Stamp {
	corrected := Stamp{Millis: min(max(stamp.Millis+o.By.Milliseconds(), 0), maxMillis), Counter: stamp.Counter}
	if limit := At(received); corrected.Millis > limit.Millis {
		return Stamp{Millis: limit.Millis, Counter: stamp.Counter}
	}
	return corrected
}
