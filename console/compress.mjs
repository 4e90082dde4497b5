// Compresses what the build has written, once, so that the service need not do it each time.
import { readdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { constants, gzipSync } from 'node:zlib'

const folder = process.argv[2]
for (const name of readdirSync(folder)) {
  if (!/\.(js|css|svg)$/.test(name)) continue
  const raw = readFileSync(join(folder, name))
  const small = gzipSync(raw, { level: constants.Z_BEST_COMPRESSION })
  if (raw.length > 1024 && small.length < 0.9 * raw.length) writeFileSync(join(folder, name + '.gz'), small)
}
