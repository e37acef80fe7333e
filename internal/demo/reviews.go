package demo

import (
	"context"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
)

// Review is what a borrower says of a tool.
type Review struct {
	Tool  string    `bson:"tool"`
	By    string    `bson:"by"`
	Stars int       `bson:"stars"`
	Text  string    `bson:"text,omitempty"`
	Tags  []string  `bson:"tags,omitempty"`
	At    time.Time `bson:"at"`
}

// Mark is the review's stars, out of five.
func (r Review) Mark() string {
	return strings.Repeat("★", r.Stars) + strings.Repeat("☆", 5-r.Stars)
}

var opinions = []Review{
	{"hammer drill", "Tomas Okafor", 4, "Strong, but heavy overhead.", []string{"concrete", "loud"}, time.Date(2026, 9, 20, 17, 4, 0, 0, time.UTC)},
	{"tile cutter", "Marit Solheim", 5, "Cut forty tiles without one broken.", []string{"bathroom"}, time.Date(2026, 9, 1, 10, 30, 0, 0, time.UTC)},
	{"extension ladder", "Bao Linh Tran", 5, "", nil, time.Date(2026, 10, 10, 9, 15, 0, 0, time.UTC)},
	{"hedge trimmer", "Ines Brandt", 3, "Works. The switch sticks.", []string{"repair"}, time.Date(2026, 10, 30, 16, 48, 0, 0, time.UTC)},
	{"spirit level", "Ines Brandt", 5, "Straight as a die.", nil, time.Date(2026, 11, 12, 11, 20, 0, 0, time.UTC)},
}

// openReviews returns the collection of reviews in the database of the address.
func openReviews(address string) (*mongo.Collection, error) {
	o := options.Client().ApplyURI(address).SetTimeout(3 * time.Second)
	c, err := mongo.Connect(o)
	if err != nil {
		return nil, err
	}
	return c.Database("toolshed").Collection("reviews"), nil
}

// review puts the opinions of the street's people where there are none yet.
func review(ctx context.Context, address string) error {
	c, err := openReviews(address)
	if err != nil {
		return err
	}
	defer func() { _ = c.Database().Client().Disconnect(context.WithoutCancel(ctx)) }()
	if _, err := c.Indexes().CreateOne(ctx, mongo.IndexModel{Keys: bson.D{{Key: "tool", Value: 1}, {Key: "by", Value: 1}}, Options: options.Index().SetUnique(true)}); err != nil {
		return err
	}
	for _, r := range opinions {
		if _, err := c.UpdateOne(ctx, bson.D{{Key: "tool", Value: r.Tool}, {Key: "by", Value: r.By}}, bson.D{{Key: "$setOnInsert", Value: r}}, options.UpdateOne().SetUpsert(true)); err != nil {
			return err
		}
	}
	return nil
}

// allReviews returns the reviews of each tool.
func allReviews(ctx context.Context, c *mongo.Collection) (map[string][]Review, error) {
	found, err := c.Find(ctx, bson.D{}, options.Find().SetSort(bson.D{{Key: "at", Value: -1}}))
	if err != nil {
		return nil, err
	}
	var all []Review
	if err := found.All(ctx, &all); err != nil {
		return nil, err
	}
	by := map[string][]Review{}
	for _, r := range all {
		by[r.Tool] = append(by[r.Tool], r)
	}
	return by, nil
}
