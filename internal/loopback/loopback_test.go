package loopback

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestInTheClear(t *testing.T) {
	for address, clear := range map[string]bool{
		"http://127.0.0.1:7740": false, "http://127.8.9.1": false, "http://localhost:7740/x": false, "http://[::1]:7740": false, "http://[::ffff:127.0.0.1]": false,
		"http://192.0.2.1": true, "http://vigila.brindle.example": true, "http://localhost.brindle.example": true, "http://127.0.0.1.brindle.example": true, "http://[2001:db8::1]": true, "http://0.0.0.0": true,
		"https://vigila.brindle.example": false, "ssh://git.brindle.example": false, "%": false,
	} {
		assert.Equal(t, clear, InTheClear(address), address)
	}
}
