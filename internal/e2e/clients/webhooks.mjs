// Receives webhooks as an application would: it takes those whose signature is
// the sender's, and refuses the others.
import { createServer } from 'node:http'
import { Webhook } from 'standardwebhooks'

const hooks = new Webhook(process.env.WEBHOOK_SECRET)
createServer(async (request, response) => {
  let body = ''
  for await (const part of request) body += part
  if (request.method !== 'POST') return response.end('ready')
  try {
    console.log('genuine ' + JSON.stringify(hooks.verify(body, request.headers)))
    response.writeHead(204).end()
  } catch (error) {
    console.log('refused ' + error.message)
    response.writeHead(403).end(error.message)
  }
}).listen(process.env.PORT, '127.0.0.1')
