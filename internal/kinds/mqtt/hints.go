package mqtt

import "neighbour/internal/core/kind"

// Hints say how it is found in a project.
func (Kind) Hints() kind.Hints {
	return kind.Hints{
		Title: "MQTT", Name: "broker",
		Libraries: []string{"mqtt", "github.com/eclipse/paho.mqtt.golang", "paho-mqtt", "aiomqtt", "php-mqtt/client"},
		Schemes:   []string{"mqtt", "tcp+mqtt"},
		Ports:     []int{1883},
		Words:     []string{"MQTT"},
		Purposes:  map[string]int{"BROKER": 4},
		Variable:  "MQTT_URL", Address: "url",
	}
}
