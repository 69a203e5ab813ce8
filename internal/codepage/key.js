// What the code page does with a security key: it works without this, by codes. Once the session is held no more the page's name may lead
// nowhere, so nothing is loaded anew then.
'use strict'
const byId = (id) => document.getElementById(id)
const say = (words) => {
  byId('key-says').textContent = words
  byId('key-says').hidden = !words
}
const send = async (body) => {
  const answer = await fetch('/key', { method: 'POST', headers: { 'Content-Type': 'application/json' }, body: JSON.stringify(body) })
  return answer.json()
}
const step = async (what) => {
  say('')
  let proved = false
  try {
    const asked = await send(what)
    if (!asked.options) return say(asked.wrong)
    proved = what.adds
    const { publicKey } = JSON.parse(asked.options)
    const key = what.adds
      ? await navigator.credentials.create({ publicKey: PublicKeyCredential.parseCreationOptionsFromJSON(publicKey) })
      : await navigator.credentials.get({ publicKey: PublicKeyCredential.parseRequestOptionsFromJSON(publicKey) })
    const done = await send({ ...what, code: '', answer: JSON.stringify(key.toJSON()) })
    if (done.wrong) return say(done.wrong)
    byId('held').hidden = true
    byId('free').hidden = false
    if (what.adds) byId('key-added').hidden = false
    if (done.recovery) byId('key-added').append(` Keep these codes, each counts once in its place: ${done.recovery.join(' ')}`)
  } catch (e) {
    say(e.name === 'NotAllowedError' ? 'The security key was not touched: try again.' : `The security key does not work here: ${e.message}`)
  } finally {
    if (proved) byId('without').hidden = false
  }
}
if (byId('key') && window.PublicKeyCredential && PublicKeyCredential.parseRequestOptionsFromJSON) {
  for (const id of ['key', 'add']) byId(id).hidden = false
  byId('key').addEventListener('submit', (e) => {
    e.preventDefault()
    step({ adds: false })
  })
  byId('add').addEventListener('submit', (e) => {
    e.preventDefault()
    step({ adds: true, name: byId('add').elements.name.value, code: byId('code').value })
  })
}
