// What an application does with models.
import assert from 'node:assert/strict'
import mongoose from 'mongoose'

await mongoose.connect(process.env.DOCUMENTS_URL)
const Lender = mongoose.model('Lender', new mongoose.Schema({
  name: { type: String, required: true },
  email: { type: String, unique: true, lowercase: true, match: /@/ },
}, { timestamps: true }))
const Review = mongoose.model('Review', new mongoose.Schema({
  tool: { type: String, index: true },
  stars: { type: Number, min: 1, max: 5 },
  by: { type: mongoose.Schema.Types.ObjectId, ref: 'Lender' },
  replies: [{ text: String, at: { type: Date, default: Date.now } }],
  seen: Map,
}))
await Promise.all([Lender.init(), Review.init()]) // which makes the indexes
await Lender.deleteMany()
await Review.deleteMany()

const ines = await Lender.create({ name: 'Ines Brandt', email: 'INES@toolshed.example' })
assert.ok(ines.createdAt instanceof Date)
await assert.rejects(Lender.create({ name: 'Another', email: 'ines@toolshed.example' }), e => e.code === 11000)
await assert.rejects(Lender.create({ email: 'x@toolshed.example' }), e => e.name === 'ValidationError')
await assert.rejects(Review.create({ stars: 9 }), e => e.errors.stars.kind === 'max')

const review = await Review.create({ tool: 'drill', stars: 5, by: ines._id, seen: { today: 3 }, replies: [{ text: 'Thanks' }] })
await Review.insertMany([{ tool: 'saw', stars: 2, by: ines._id }, { tool: 'drill', stars: 4 }])
assert.equal((await Review.findById(review.id).populate('by')).by.name, 'Ines Brandt')
review.replies.push({ text: 'You are welcome' })
review.replies[0].text = 'Thank you'
review.seen.set('today', 4)
await review.save()
assert.deepEqual((await Review.findById(review.id).lean()).replies.map(r => r.text), ['Thank you', 'You are welcome'])
await Review.updateOne({ _id: review._id, 'replies.text': 'You are welcome' }, { $set: { 'replies.$.text': 'Bye' } })
assert.equal((await Review.findOne({ 'replies.text': 'Bye' }).select('replies')).replies.length, 2)
const stale = await Review.findById(review.id)
await Review.updateOne({ _id: review._id }, { $pull: { replies: { text: 'Bye' } }, $inc: { __v: 1 } })
stale.replies[1].text = 'late'
await assert.rejects(stale.save(), e => e.name === 'VersionError' || e.name === 'DocumentNotFoundError')

assert.deepEqual(await Review.aggregate([
  { $group: { _id: '$tool', stars: { $avg: '$stars' }, n: { $sum: 1 } } }, { $sort: { _id: 1 } },
]), [{ _id: 'drill', stars: 4.5, n: 2 }, { _id: 'saw', stars: 2, n: 1 }])
assert.equal(await Review.countDocuments({ stars: { $gte: 4 } }), 2)
assert.ok(await Review.exists({ tool: 'saw' }))
assert.equal((await Review.findOneAndUpdate({ tool: 'plane' }, { stars: 3 }, { upsert: true, returnDocument: 'after' })).stars, 3)
assert.equal((await Review.find().where('stars').gt(2).sort('-stars').limit(2)).map(r => r.stars).join(), '5,4')

await mongoose.connection.transaction(async session => {
  await new Lender({ name: 'Mara Jansen', email: 'mara@toolshed.example' }).save({ session })
  await Review.updateMany({ tool: 'drill' }, { $inc: { stars: -1 } }, { session })
})
assert.equal(await Review.countDocuments({ tool: 'drill', stars: { $in: [3, 4] } }), 2)
await assert.rejects(mongoose.connection.transaction(async session => {
  await Lender.deleteMany({}, { session })
  throw new Error('no')
}), /no/)
assert.equal(await Lender.countDocuments(), 2)

const changes = Review.watch([], { fullDocument: 'updateLookup' })
const told = new Promise((resolve, reject) => { changes.once('change', resolve); changes.once('error', reject) })
await new Promise(r => setTimeout(r, 300))
await Review.deleteOne({ tool: 'saw' })
assert.equal((await told).operationType, 'delete')
await changes.close()
assert.deepEqual((await Lender.collection.indexes()).map(i => i.name), ['_id_', 'email_1'])
await Lender.syncIndexes()
let n = 0
for await (const r of Review.find().cursor({ batchSize: 1 })) n += r.stars
assert.equal(n, 10)
await mongoose.disconnect()
console.log('well')
