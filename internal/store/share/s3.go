package share

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"path"
	"strings"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
)

// bucket is a bucket of an object store that speaks the S3 protocol.
type bucket struct {
	core         minio.Core
	name, prefix string
}

// newBucket returns what is below s3://BUCKET/PREFIX. The variables are those that the tools for S3 use: the server is
// that of AWS_ENDPOINT_URL_S3 or AWS_ENDPOINT_URL, the region AWS_REGION or AWS_DEFAULT_REGION. The credentials are in
// AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY or in the user's file of credentials; no metadata service is asked.
func newBucket(address *url.URL, variable func(string) string) (*bucket, error) {
	const usual = "https://s3.amazonaws.com"
	server := cmp.Or(variable("AWS_ENDPOINT_URL_S3"), variable("AWS_ENDPOINT_URL"), usual)
	at, err := url.Parse(server)
	if err != nil || at.Host == "" || at.Scheme != "https" && at.Scheme != "http" {
		return nil, fmt.Errorf("AWS_ENDPOINT_URL is %q, which is not the address of a server", server)
	}
	client, err := minio.New(at.Host, &minio.Options{
		Creds: credentials.NewChainCredentials([]credentials.Provider{
			&credentials.EnvAWS{}, &credentials.FileAWSCredentials{},
		}),
		Secure:    at.Scheme == "https",
		Region:    cmp.Or(variable("AWS_REGION"), variable("AWS_DEFAULT_REGION"), "us-east-1"),
		Transport: transport(),
	})
	if err != nil {
		return nil, err
	}
	return &bucket{minio.Core{Client: client}, address.Host, strings.Trim(address.Path, "/")}, nil
}

func (b *bucket) object(name string) string { return path.Join(b.prefix, name) }

// reason is why a request has failed.
func (b *bucket) reason(err error) error {
	if err == nil {
		return nil
	}
	answer := minio.ToErrorResponse(err)
	switch {
	case answer.Code == "NoSuchKey", answer.StatusCode == http.StatusNotFound && answer.Code != "NoSuchBucket":
		return ErrAbsent
	case answer.Code != "":
		return fmt.Errorf("bucket %s: %w (%s)", b.name, err, answer.Code)
	}
	return err
}

func (b *bucket) Get(ctx context.Context, name string) (io.ReadCloser, error) {
	from, _, _, err := b.core.GetObject(ctx, b.name, b.object(name), minio.GetObjectOptions{})
	if err != nil {
		return nil, b.reason(err)
	}
	return from, nil
}

func (b *bucket) Has(ctx context.Context, name string) (bool, error) {
	_, err := b.core.StatObject(ctx, b.name, b.object(name), minio.StatObjectOptions{})
	if err = b.reason(err); errors.Is(err, ErrAbsent) {
		return false, nil
	}
	return err == nil, err
}

func (b *bucket) Put(ctx context.Context, name string, from io.Reader, size int64) error {
	_, err := b.core.Client.PutObject(ctx, b.name, b.object(name), from, size,
		minio.PutObjectOptions{DisableMultipart: true, ContentType: "application/octet-stream"})
	return b.reason(err)
}
