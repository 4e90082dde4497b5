/** base is the path under which the service answers, without a slash at its end; a service that is built anew says it in the page. */
export const base = told(document.querySelector<HTMLMetaElement>('meta[name=base-path]')?.content)

function told(content = ''): string {
  return content.startsWith('/') ? content : ''
}
