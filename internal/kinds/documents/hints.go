package documents

import "neighbour/internal/core/kind"

// Hints say how it is found in a project.
func (Kind) Hints() kind.Hints {
	return kind.Hints{
		Title: "databases of documents", Name: "documents",
		Libraries: []string{"mongodb", "mongoose", "go.mongodb.org/mongo-driver*", "pymongo", "motor", "beanie", "mongoengine", "mongodb/mongodb", "doctrine/mongodb-odm", "mongoid"},
		Schemes:   []string{"mongodb"},
		Ports:     []int{27017},
		Words:     []string{"MONGO", "MONGODB", "MONGOOSE"},
		Variable:  "MONGODB_URI", Address: "url",
		Offered: true,
	}
}
