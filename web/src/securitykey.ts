/** Security keys (Web Authentication), as browsers have them. */

/** Whether this page can use one: it must have been opened by a name, safely, in a browser that reads what it is asked. */
export const usable = () =>
  window.isSecureContext &&
  !/^[\d.]+$|:/.test(location.hostname) &&
  typeof PublicKeyCredential !== 'undefined' &&
  'parseRequestOptionsFromJSON' in PublicKeyCredential

const asked = (options: string) => JSON.parse(options).publicKey
const answered = (key: Credential | null) => JSON.stringify((key as PublicKeyCredential).toJSON())

/** Has a key answer that is there already. */
export const touch = async (options: string) =>
  answered(await navigator.credentials.get({ publicKey: PublicKeyCredential.parseRequestOptionsFromJSON(asked(options)) }))

/** Has a key answer that is to be added. */
export const add = async (options: string) =>
  answered(await navigator.credentials.create({ publicKey: PublicKeyCredential.parseCreationOptionsFromJSON(asked(options)) }))

/** What went wrong, in words. */
export const failed = (e: unknown) =>
  e instanceof DOMException && e.name === 'NotAllowedError'
    ? 'The security key was not touched: try again.'
    : `The security key does not work here: ${e instanceof Error ? e.message : e}`
