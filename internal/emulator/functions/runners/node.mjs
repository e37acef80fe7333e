// Loads a module of a function and calls its handler, once for each request that comes on
// descriptor 3. Answers go to descriptor 4; what the function prints is its log.
import fs from 'node:fs'
import path from 'node:path'
import { spawnSync } from 'node:child_process'
import net from 'node:net'
import module, { createRequire } from 'node:module'
import { fileURLToPath, pathToFileURL } from 'node:url'

const [file, name] = process.argv.slice(2)
const run = import.meta.dirname ?? path.dirname(fileURLToPath(import.meta.url))
const say = (head, body) => {
  const b = body ?? Buffer.alloc(0)
  const all = Buffer.concat([Buffer.from(JSON.stringify({ ...head, body: b.length }) + '\n'), b])
  for (let at = 0; at < all.length;) {
    try {
      at += fs.writeSync(4, all, at)
    } catch (e) {
      if (e.code !== 'EAGAIN') throw e
    }
  }
}
const own = (line) => !line.includes(import.meta.url) && !line.includes('(node:internal/') && !line.includes(' node:internal/')
const told = (e) => ({ message: String(e?.message ?? e), stack: String(e?.stack ?? e).split('\n').filter(own).join('\n') })

// detect has files called .js that are written as modules loaded as modules where no package.json
// says what they are, which newer versions of Node do by themselves.
function detect() {
  const [major, minor] = process.versions.node.split('.').map(Number)
  if (major > 22 || (major === 22 && minor >= 7) || (major === 20 && minor >= 19)) return
  if (!module.register) throw new Error(`node ${process.versions.node} is too old; functions need node 18.19 or newer`)
  const hooks = `
    import fs from 'node:fs'
    import path from 'node:path'
    import vm from 'node:vm'
    import { fileURLToPath } from 'node:url'
    function declared(file) {
      for (let dir = path.dirname(file); ; dir = path.dirname(dir)) {
        if (path.basename(dir) === 'node_modules') return true
        const manifest = path.join(dir, 'package.json')
        if (fs.existsSync(manifest)) return JSON.parse(fs.readFileSync(manifest, 'utf8')).type !== undefined
        if (dir === path.dirname(dir)) return false
      }
    }
    export async function load(url, context, next) {
      if (!/^file:.*\\.js$/.test(url) || context.format !== 'commonjs' || declared(fileURLToPath(url))) return next(url, context)
      const source = fs.readFileSync(fileURLToPath(url), 'utf8')
      try {
        vm.compileFunction(source, ['exports', 'require', 'module', '__filename', '__dirname'])
      } catch (e) {
        if (/^(Cannot use import statement|Cannot use 'import.meta'|Unexpected token 'export'|await is only valid)/.test(e.message)) return { format: 'module', source, shortCircuit: true }
      }
      return next(url, context)
    }`
  module.register('data:text/javascript,' + encodeURIComponent(hooks))
}

// typescript has a module and what it imports compiled by the project's own compiler, and what
// that makes loaded in their stead.
function typescript() {
  let compiler, version
  try {
    const manifest = createRequire(file).resolve('typescript/package.json')
    compiler = path.join(path.dirname(manifest), 'bin', 'tsc')
    version = JSON.parse(fs.readFileSync(manifest, 'utf8')).version.split('.').map(Number)
  } catch {
    throw new Error(`${path.basename(file)} is TypeScript, and the project has no compiler; add it with: npm install --save-dev typescript`)
  }
  const made = path.join(run, 'typescript', `${name}-${process.pid}`)
  process.on('exit', () => fs.rmSync(made, { recursive: true, force: true }))
  fs.mkdirSync(made, { recursive: true, mode: 0o700 })
  const options = { module: 'esnext', moduleResolution: 'bundler', noEmit: false, emitDeclarationOnly: false, declaration: false, composite: false, incremental: false, outDir: made, rootDir: '/', inlineSourceMap: true, inlineSources: true, sourceMap: false, sourceRoot: 'file:///', skipLibCheck: true }
  if (version[0] > 5 || (version[0] === 5 && version[1] >= 7)) Object.assign(options, { rewriteRelativeImportExtensions: true, allowImportingTsExtensions: true })
  let config
  const types = []
  for (let dir = path.dirname(file); ; dir = path.dirname(dir)) {
    if (fs.existsSync(path.join(dir, 'node_modules', '@types'))) types.push(path.join(dir, 'node_modules', '@types'))
    if (!config && fs.existsSync(path.join(dir, 'tsconfig.json'))) config = path.join(dir, 'tsconfig.json')
    if (dir === path.dirname(dir)) break
  }
  if (!config) Object.assign(options, { target: 'es2022', strict: true, lib: ['es2022', 'dom', 'dom.iterable'] })
  if (!config || !fs.readFileSync(config, 'utf8').includes('"typeRoots"')) options.typeRoots = types
  const own = path.join(made, 'tsconfig.json')
  fs.writeFileSync(own, JSON.stringify({ extends: config, compilerOptions: options, files: [file], include: [] }))
  const { status, stdout, stderr } = spawnSync(process.execPath, [compiler, '-p', own, '--pretty', 'false'], { cwd: path.dirname(file), encoding: 'utf8' })
  if (status !== 0) {
    const text = (stdout + stderr).trim()
    const e = new Error('it does not compile: ' + text.split('\n')[0])
    e.stack = text
    throw e
  }
  const hooks = `
    import { fileURLToPath, pathToFileURL } from 'node:url'
    import fs from 'node:fs'
    export async function resolve(specifier, context, next) {
      try { return await next(specifier, context) } catch (e) {
        if (!/^\\.?\\.\\//.test(specifier)) throw e
        const at = fileURLToPath(new URL(specifier, context.parentURL))
        for (const to of [at.replace(/\\.js$/, '.ts'), at.replace(/\\.mjs$/, '.mts'), at + '.ts', at + '/index.ts']) {
          if (to !== at && fs.existsSync(to)) return { url: pathToFileURL(to).href, format: 'module', shortCircuit: true }
        }
        throw e
      }
    }
    export async function load(url, context, next) {
      if (!/\\.m?ts$/.test(url)) return next(url, context)
      const to = ${JSON.stringify(made)} + fileURLToPath(url).replace(/ts$/, 'js')
      if (!fs.existsSync(to)) return next(url, context)
      return { format: 'module', source: fs.readFileSync(to, 'utf8'), shortCircuit: true }
    }`
  process.setSourceMapsEnabled?.(true)
  module.register('data:text/javascript,' + encodeURIComponent(hooks))
}

let handler
try {
  if (typeof Request === 'undefined') throw new Error(`node ${process.versions.node} has no Request and Response; functions need node 18.19 or newer`)
  detect()
  if (/\.m?ts$/.test(file)) typescript()
  const loaded = await import(pathToFileURL(file).href)
  for (const one of [loaded.default, loaded.handler, loaded.default?.handler, loaded.default?.default]) {
    if (typeof one === 'function') {
      handler = one
      break
    }
  }
  if (!handler) throw new Error(`${path.basename(file)} exports no handler; write: export default async function (request) { … }`)
} catch (e) {
  const failed = told(e)
  if (e instanceof SyntaxError && !failed.stack.includes(file)) {
    // Where it is, is told only by a check of its own.
    const { stderr } = spawnSync(process.execPath, ['--input-type=module', '--check', '-'], { input: fs.readFileSync(file), encoding: 'utf8' })
    const at = stderr.match(/^\[stdin\]:(\d+)\n([^]*?\n)\n/)
    if (at) {
      failed.message = `${path.basename(file)}:${at[1]}: ${failed.message}`
      failed.stack = `${file}:${at[1]}\n${at[2]}${e}`
    }
  }
  say({ failed })
  process.exit(1)
}
say({ ready: true })

// asAnswer makes an answer of what a handler returns.
async function asAnswer(value) {
  if (value instanceof Response) {
    const headers = []
    value.headers.forEach((v, k) => k !== 'set-cookie' && headers.push([k, v]))
    for (const c of value.headers.getSetCookie?.() ?? []) headers.push(['set-cookie', c])
    return [{ status: value.status, headers }, Buffer.from(await value.arrayBuffer())]
  }
  if (value === undefined || value === null) return [{ status: 204, headers: [] }]
  if (typeof value === 'string') return [{ status: 200, headers: [['content-type', 'text/plain; charset=utf-8']] }, Buffer.from(value)]
  if (value instanceof Uint8Array) return [{ status: 200, headers: [['content-type', 'application/octet-stream']] }, Buffer.from(value)]
  return [{ status: 200, headers: [['content-type', 'application/json']] }, Buffer.from(JSON.stringify(value))]
}

async function call(head, body) {
  let answer
  try {
    const request = new Request(head.url, { method: head.method, headers: head.headers, body: body.length > 0 && head.method !== 'GET' && head.method !== 'HEAD' ? body : undefined })
    answer = await asAnswer(await handler(request, { name, call: head.id, path: head.path }))
  } catch (e) {
    answer = [{ error: told(e) }]
  }
  for (const out of [1, 2]) fs.writeSync(out, '\0')
  say({ id: head.id, ...answer[0] }, answer[1])
}

process.on('unhandledRejection', (e) => console.error(e))

let rest = Buffer.alloc(0)
let head
// A stream of a file would be read by a thread that a function's process.exit waits for.
for await (const chunk of new net.Socket({ fd: 3, readable: true, writable: false })) {
  rest = rest.length > 0 ? Buffer.concat([rest, chunk]) : chunk
  for (;;) {
    if (!head) {
      const end = rest.indexOf(10)
      if (end < 0) break
      head = JSON.parse(rest.subarray(0, end).toString())
      rest = rest.subarray(end + 1)
    }
    if (rest.length < head.body) break
    const [h, body] = [head, rest.subarray(0, head.body)]
    rest = rest.subarray(head.body)
    head = undefined
    await call(h, body)
  }
}
process.exit(0)
