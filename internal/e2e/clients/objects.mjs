// What an application does with a bucket, through the clients of the protocol.
import assert from 'node:assert/strict'
import { Readable } from 'node:stream'
import { S3Client, PutObjectCommand, GetObjectCommand, HeadObjectCommand, DeleteObjectsCommand, ListObjectsV2Command, CopyObjectCommand, CreateBucketCommand, paginateListObjectsV2 } from '@aws-sdk/client-s3'
import { getSignedUrl } from '@aws-sdk/s3-request-presigner'
import { Upload } from '@aws-sdk/lib-storage'

const s3 = new S3Client({ endpoint: process.env.S3_ENDPOINT, region: 'us-east-1', credentials: { accessKeyId: process.env.S3_ACCESS_KEY, secretAccessKey: process.env.S3_SECRET_KEY } })
const Bucket = 'uploads'
await s3.send(new CreateBucketCommand({ Bucket })).catch(e => assert.equal(e.name, 'BucketAlreadyOwnedByYou'))
const text = async key => (await s3.send(new GetObjectCommand({ Bucket, Key: key }))).Body.transformToString()

await s3.send(new PutObjectCommand({ Bucket, Key: 'photos/säge 1.jpg', Body: Buffer.from([1, 2, 3]), ContentType: 'image/jpeg', Metadata: { by: 'ines' } }))
const head = await s3.send(new HeadObjectCommand({ Bucket, Key: 'photos/säge 1.jpg' }))
assert.deepEqual([head.ContentLength, head.ContentType, head.Metadata.by], [3, 'image/jpeg', 'ines'])
await s3.send(new PutObjectCommand({ Bucket, Key: 'note.txt', Body: 'hello' }))
await s3.send(new CopyObjectCommand({ Bucket, Key: 'copy.txt', CopySource: `${Bucket}/note.txt` }))
assert.equal(await text('copy.txt'), 'hello')
assert.equal(await (await s3.send(new GetObjectCommand({ Bucket, Key: 'note.txt', Range: 'bytes=1-3' }))).Body.transformToString(), 'ell')
await assert.rejects(text('none'), e => e.name === 'NoSuchKey' && e.$metadata.httpStatusCode === 404)

// A stream of unknown length, in parts, with checksums behind them.
const size = 12 << 20
async function* chunks() { for (let i = 0; i < size; i += 1 << 20) yield Buffer.alloc(1 << 20, i >> 20) }
const done = await new Upload({ client: s3, params: { Bucket, Key: 'film.bin', Body: Readable.from(chunks()) }, queueSize: 3 }).done()
assert.match(done.ETag, /-3"$/)
let n = 0
for await (const b of (await s3.send(new GetObjectCommand({ Bucket, Key: 'film.bin' }))).Body) n += b.length
assert.equal(n, size)

const links = [await getSignedUrl(s3, new GetObjectCommand({ Bucket, Key: 'photos/säge 1.jpg' }), { expiresIn: 60 }), await getSignedUrl(s3, new PutObjectCommand({ Bucket, Key: 'by link' }), { expiresIn: 60 })]
assert.equal((await (await fetch(links[0])).arrayBuffer()).byteLength, 3)
assert.equal((await fetch(links[1], { method: 'PUT', body: 'up' })).status, 200)
assert.equal(await text('by link'), 'up')
assert.equal((await fetch(links[0].replace(/Signature=./, 'Signature=_'))).status, 403)

const all = await s3.send(new ListObjectsV2Command({ Bucket, Delimiter: '/' }))
assert.deepEqual([all.Contents.map(o => o.Key), all.CommonPrefixes.map(p => p.Prefix)], [['by link', 'copy.txt', 'film.bin', 'note.txt'], ['photos/']])
const keys = []
for await (const page of paginateListObjectsV2({ client: s3, pageSize: 2 }, { Bucket })) keys.push(...page.Contents.map(o => ({ Key: o.Key })))
assert.equal(keys.length, 5)
if (process.argv[2] === 'keep') { console.log('well'); process.exit(0) }
await s3.send(new DeleteObjectsCommand({ Bucket, Delete: { Objects: keys } }))
assert.equal((await s3.send(new ListObjectsV2Command({ Bucket }))).KeyCount, 0)
console.log('well')
