export const handler = (request, context) => new Response('report ' + context.path + ' ' + context.name, { status: 202, headers: { 'x-a': 'b' } })
