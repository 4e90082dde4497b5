import '@fontsource-variable/atkinson-hyperlegible-mono/wght.css'
import '@fontsource-variable/atkinson-hyperlegible-next/wght.css'
import './styles.css'

import { QueryClientProvider } from '@tanstack/react-query'
import { setNonce } from 'get-nonce'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { createBrowserRouter } from 'react-router'
import { RouterProvider } from 'react-router/dom'

import { ask } from './api/access'
import { queryClient } from './api/client'
import { listen } from './api/live'
import { base } from './lib/base'
import { App } from './shell/App'
import { Broken } from './shell/Broken'

// Dialogs add styles of their own; the page's policy lets them under this nonce alone.
const nonce = document.querySelector<HTMLMetaElement>('meta[name=style-nonce]')?.content
if (nonce) setNonce(nonce)

const router = createBrowserRouter([{ path: '*', element: <App />, errorElement: <Broken /> }], { basename: base || '/' })

/** How long the page waits for its face: so that nothing moves when it comes. */
const faceWithin = 400

const asked = ask().then(listen)

const face = document.fonts.load('1em "Atkinson Hyperlegible Next Variable"')
void Promise.all([asked, Promise.race([face, new Promise((r) => setTimeout(r, faceWithin))])]).then(() =>
  createRoot(document.getElementById('root')!).render(
    <StrictMode>
      <QueryClientProvider client={queryClient}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </StrictMode>,
  ),
)
