export default async function (request) {
  const { name } = await request.json()
  console.log('greeting', name)
  if (name === 'nobody') throw new TypeError('nobody is there')
  if (name === 'slow') await new Promise((done) => setTimeout(done, 60000))
  if (name === 'hog') { const all = []; for (;;) all.push(Buffer.alloc(1 << 20, 1)); }
  if (name === 'exit') process.exit(4)
  return { hello: name, pid: process.pid }
}
