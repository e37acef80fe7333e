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
		Beside:  map[string]string{"KEY": "access_key", "ACCESS_KEY": "access_key", "ACCESS_KEY_ID": "access_key", "KEY_ID": "access_key", "SECRET": "secret_key", "SECRET_KEY": "secret_key", "SECRET_ACCESS_KEY": "secret_key", "REGION": "region"},
		Offered: true,
	}
}
