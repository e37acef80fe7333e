package objects

import "neighbour/internal/core/kind"

// Hints say how it is found in a project.
func (Kind) Hints() kind.Hints {
	return kind.Hints{
		Title: "object storage", Name: "objects",
		Libraries: []string{"@aws-sdk/client-s3", "aws-sdk", "multer-s3", "github.com/aws/aws-sdk-go-v2/service/s3", "boto3", "django-storages", "league/flysystem-aws-s3-v3", "aws/aws-sdk-php", "aws-sdk-s3"},
		Schemes:   []string{"s3"},
		Words:     []string{"S3", "AWS"},
		Variable:  "AWS_ENDPOINT_URL_S3", Address: "url",
		Web:     true,
		Offered: true,
	}
}
