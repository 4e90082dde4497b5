// The addresses of the pages. Written by go generate ./internal/server from consoleRoutes in internal/server/files.go.
export const routes = [
  { path: '/', page: 'now' },
  { path: '/jobs/:job', page: 'now' },
  { path: '/dead', page: 'dead' },
  { path: '/dead/:cause', page: 'dead' },
  { path: '/coming', page: 'coming' },
  { path: '/coming/:schedule', page: 'coming' },
  { path: '/queues', page: 'queues' },
  { path: '/queues/:queue', page: 'queues' },
  { path: '/workers', page: 'workers' },
  { path: '/workers/:worker', page: 'workers' },
  { path: '/settings', page: 'settings' },
  { path: '/settings/:task', page: 'settings' },
] as const
