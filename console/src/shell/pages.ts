/** The pages, in the order in which they are offered, each with the letter that leads there after g. */
export const pages = [
  { to: '/', name: 'Now', letter: 'n' },
  { to: '/jobs', name: 'Jobs', letter: 'j' },
  { to: '/batches', name: 'Batches', letter: 'b' },
  { to: '/dead', name: 'Dead letters', letter: 'd' },
  { to: '/alerts', name: 'Alerts', letter: 'l' },
  { to: '/coming', name: 'Coming up', letter: 'c' },
  { to: '/queues', name: 'Queues', letter: 'q' },
  { to: '/workers', name: 'Workers', letter: 'w' },
  { to: '/outside', name: 'In and out', letter: 'o' },
  { to: '/log', name: 'Action log', letter: 'a' },
  { to: '/settings', name: 'Settings', letter: 's' },
] as const
