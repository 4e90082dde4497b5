// The addresses of the pages. Written by go generate ./internal/server from consoleRoutes in internal/server/files.go.
export const routes = [
  { path: '/', page: 'now' },
  { path: '/jobs', page: 'jobs' },
  { path: '/jobs/:job', page: 'jobs' },
  { path: '/dead', page: 'dead' },
  { path: '/dead/:cause', page: 'dead' },
  { path: '/coming', page: 'coming' },
  { path: '/coming/:schedule', page: 'coming' },
  { path: '/queues', page: 'queues' },
  { path: '/queues/:queue', page: 'queues' },
  { path: '/workers', page: 'workers' },
  { path: '/workers/:worker', page: 'workers' },
  { path: '/log', page: 'log' },
  { path: '/compare', page: 'compare' },
  { path: '/settings', page: 'settings' },
  { path: '/settings/:task', page: 'settings' },
] as const
