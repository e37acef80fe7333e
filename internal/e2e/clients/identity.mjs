// Signs somebody in as an app does that uses openid-client, and checks the access token as an
// API does that uses jose. The person's click is a request here.
import * as client from 'openid-client'
import { createRemoteJWKSet, jwtVerify } from 'jose'

const { ISSUER, CLIENT_ID, CLIENT_SECRET, PERSON } = process.env
const config = await client.discovery(new URL(ISSUER), CLIENT_ID, CLIENT_SECRET, undefined, { execute: [client.allowInsecureRequests] })
const verifier = client.randomPKCECodeVerifier()
const state = client.randomState(), nonce = client.randomNonce()
const address = client.buildAuthorizationUrl(config, {
  redirect_uri: 'http://localhost:5173/back', scope: 'openid profile email roles offline_access', state, nonce,
  code_challenge: await client.calculatePKCECodeChallenge(verifier), code_challenge_method: 'S256',
})
const page = await (await fetch(address)).text()
const person = page.match(new RegExp(`value="([0-9a-f]+)"[^>]*><b>${PERSON}`))[1]
const answer = await fetch(new URL('/authorize', ISSUER), { method: 'POST', redirect: 'manual', body: new URLSearchParams({ ask: address.search.slice(1), person }) })
const back = new URL(answer.headers.get('location'))

const tokens = await client.authorizationCodeGrant(config, back, { pkceCodeVerifier: verifier, expectedState: state, expectedNonce: nonce, idTokenExpected: true })
const claims = tokens.claims()
const info = await client.fetchUserInfo(config, tokens.access_token, claims.sub)
const keys = createRemoteJWKSet(new URL(config.serverMetadata().jwks_uri), { cooldownDuration: 0 })
const good = await jwtVerify(tokens.access_token, keys, { issuer: ISSUER, audience: CLIENT_ID, typ: 'at+jwt' })
await fetch(new URL('/-/rotate', ISSUER), { method: 'POST', headers: { 'content-type': 'application/json' }, body: '{}' })
const later = await client.refreshTokenGrant(config, tokens.refresh_token)
const rotated = await jwtVerify(later.access_token, keys, { issuer: ISSUER, audience: CLIENT_ID })
const seen = await client.tokenIntrospection(config, later.access_token)
await client.tokenRevocation(config, later.refresh_token)
const gone = await client.tokenIntrospection(config, later.access_token)

const faults = {}
for (const fault of ['expired', 'early', 'foreign', 'none', 'issuer', 'audience']) {
  const given = await (await fetch(new URL('/-/token', ISSUER), { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify({ person: PERSON, client: CLIENT_ID, fault }) })).json()
  faults[fault] = await jwtVerify(given.access_token, keys, { issuer: ISSUER, audience: CLIENT_ID }).then(() => 'taken', e => e.code)
}
let again
try {
  await client.authorizationCodeGrant(config, back, { pkceCodeVerifier: verifier, expectedState: state, expectedNonce: nonce })
} catch (e) { again = e.error }
const device = await client.initiateDeviceAuthorization(config, { scope: 'openid' })
const own = await client.clientCredentialsGrant(config, { scope: 'tools.read' })

console.log(JSON.stringify({
  name: claims.name, email: info.email, roles: good.payload.roles, kids: good.protectedHeader.kid !== rotated.protectedHeader.kid, active: seen.active, gone: gone.active,
  faults, again, device: device.user_code.length, own: own.scope, out: client.buildEndSessionUrl(config, { id_token_hint: tokens.id_token }).pathname,
}))
