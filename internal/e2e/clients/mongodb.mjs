// What an application does with a database of documents, through the driver.
import assert from 'node:assert/strict'
import { MongoClient, ObjectId, Long, Decimal128 } from 'mongodb'

const client = await MongoClient.connect(process.env.DOCUMENTS_URL)
const db = client.db()
const tools = db.collection('tools')
await tools.deleteMany({})

const { insertedId } = await tools.insertOne({ name: 'drill', price: 129.9, tags: ['power', 'wall'], stock: { shed: 2, van: 1 } })
assert.ok(insertedId instanceof ObjectId)
await tools.insertMany([
  { _id: 1, name: 'ladder', price: 189, serial: Long.fromString('9007199254740993'), cost: Decimal128.fromString('99.90') },
  { _id: 2, name: 'saw', at: new Date('2026-11-25T12:00:00Z'), raw: Buffer.from([0, 255]) },
])
assert.equal((await tools.findOne({ _id: 1 })).cost.toString(), '99.90')
assert.deepEqual((await tools.find({ price: { $gt: 100 } }).sort({ price: -1 }).toArray()).map(t => t.name), ['ladder', 'drill'])
assert.deepEqual(await tools.distinct('tags'), ['power', 'wall'])
assert.equal(await tools.countDocuments({ price: { $exists: true } }), 2)
assert.equal(await tools.estimatedDocumentCount(), 3)
assert.deepEqual((await tools.bulkWrite([
  { updateOne: { filter: { _id: 1 }, update: { $inc: { price: 1 } } } },
  { deleteOne: { filter: { _id: 2 } } },
  { insertOne: { document: { _id: 3 } } },
  { replaceOne: { filter: { _id: 4 }, replacement: { x: 1 }, upsert: true } },
])).upsertedIds, { 3: 4 })
const after = await tools.findOneAndUpdate({ name: 'drill' }, { $push: { tags: 'loud' } }, { returnDocument: 'after', projection: { tags: 1, _id: 0 } })
assert.deepEqual(after, { tags: ['power', 'wall', 'loud'] })

// Indexes hold, and are used.
await tools.createIndex({ name: 1 }, { unique: true, sparse: true })
await assert.rejects(tools.insertOne({ name: 'drill' }), e => e.code === 11000 && e.keyValue.name === 'drill')
const plan = await tools.find({ name: 'drill' }).explain('executionStats')
assert.equal(plan.queryPlanner.winningPlan.inputStage.indexName, 'name_1')
assert.equal(plan.executionStats.totalDocsExamined, 1)

// Many documents, in several answers.
const many = db.collection('many')
await many.drop().catch(() => {})
await many.insertMany(Array.from({ length: 2500 }, (_, i) => ({ _id: i, k: i % 7 })))
let n = 0
for await (const d of many.find({}, { batchSize: 300 })) n += d._id
assert.equal(n, 2500 * 2499 / 2)
assert.deepEqual(await many.aggregate([{ $group: { _id: '$k', n: { $sum: 1 } } }, { $sort: { n: -1, _id: 1 } }, { $limit: 2 }]).toArray(), [{ _id: 0, n: 358 }, { _id: 1, n: 357 }])

// A transaction is seen by others at its end, and not at all if it fails.
const session = client.startSession()
await session.withTransaction(async () => {
  await many.updateOne({ _id: 0 }, { $set: { k: 100 } }, { session })
  await many.insertOne({ _id: 9000, k: 100 }, { session })
  assert.equal(await many.countDocuments({ k: 100 }, { session }), 2)
  assert.equal(await many.countDocuments({ k: 100 }), 0)
})
assert.equal(await many.countDocuments({ k: 100 }), 2)
await assert.rejects(session.withTransaction(async () => {
  await many.deleteMany({}, { session })
  throw new Error('no')
}), /no/)
assert.equal(await many.countDocuments({}), 2501)
let tries = 0
await session.withTransaction(async () => {
  const d = await many.findOne({ _id: 1 }, { session })
  if (tries++ === 0) await many.updateOne({ _id: 1 }, { $set: { k: 50 } }) // another is quicker
  await many.updateOne({ _id: 1 }, { $set: { k: d.k + 1 } }, { session })
})
assert.equal(tries, 2)
assert.equal((await many.findOne({ _id: 1 })).k, 51)
await session.endSession()

// Changes are told, and can be gone on with.
const stream = many.watch([{ $match: { operationType: { $ne: 'delete' } } }], { fullDocument: 'updateLookup' })
const first = stream.next()
await new Promise(r => setTimeout(r, 100))
await many.deleteOne({ _id: 5 })
await many.updateOne({ _id: 6 }, { $set: { k: 61 }, $unset: { none: 1 } })
await many.insertOne({ _id: 9001 })
const event = await first
assert.equal(event.operationType, 'update')
assert.deepEqual(event.updateDescription.updatedFields, { k: 61 })
assert.deepEqual(event.fullDocument, { _id: 6, k: 61 })
await stream.close()
const resumed = many.watch([], { resumeAfter: event._id })
assert.deepEqual((await resumed.next()).documentKey, { _id: 9001 })
await resumed.close()

await assert.rejects(tools.find({ $where: '1' }).toArray(), /\$where is not here/)
await client.close()
const url = new URL(process.env.DOCUMENTS_URL)
url.password = 'wrong'
await assert.rejects(MongoClient.connect(url.href), /Authentication failed/)
// Without being told to stay with one server, it finds out which there is.
const found = await MongoClient.connect(process.env.DOCUMENTS_URL.replace('&directConnection=true', ''))
assert.equal(await found.db().collection('many').countDocuments({ k: 100 }), 2)
await found.close()
console.log('well')
