package rabbitmq

import "neighbour/internal/core/kind"

// Hints say how it is found in a project.
func (Kind) Hints() kind.Hints {
	return kind.Hints{
		Title: "RabbitMQ (AMQP)", Name: "queue",
		Libraries: []string{"amqplib", "amqp-connection-manager", "github.com/rabbitmq/amqp091-go", "github.com/streadway/amqp", "pika", "aio-pika", "bunny", "php-amqplib/php-amqplib", "ext-amqp"},
		Schemes:   []string{"amqp"},
		Ports:     []int{5672},
		Words:     []string{"RABBITMQ", "AMQP"},
		Purposes:  map[string]int{"QUEUE": 1, "BROKER": 1},
		Variable:  "AMQP_URL", Address: "url",
	}
}
