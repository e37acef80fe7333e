package redis

import "neighbour/internal/core/kind"

// Hints say how it is found in a project.
func (Kind) Hints() kind.Hints {
	return kind.Hints{
		Title: "Redis", Name: "cache",
		Libraries: []string{"redis", "ioredis", "bull", "bullmq", "connect-redis", "github.com/redis/go-redis*", "github.com/go-redis/redis*", "github.com/gomodule/redigo", "sidekiq", "resque", "predis/predis", "ext-redis", "django-redis", "rq"},
		Schemes:   []string{"redis"},
		Ports:     []int{6379},
		Words:     []string{"REDIS"},
		Purposes:  map[string]int{"CACHE": 1, "SESSION": 1, "QUEUE": 2, "BROKER": 2},
		Variable:  "REDIS_URL", Address: "url",
		Offered: true,
	}
}
