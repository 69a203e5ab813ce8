import { expect, test } from 'vitest'
import { asked, askFor, sure } from './ask'

test('a question is answered once, and a second one takes the place of the first', async () => {
  const first = sure('Remove it?', 'Remove')
  const second = askFor('Why?', 'Revoke', 'Reason')
  expect(await first).toBe(false)
  expect(asked.value?.label).toBe('Reason')
  asked.value?.answer('it was copied')
  expect(await second).toBe('it was copied')
  expect(asked.value).toBeUndefined()
  const third = sure('Remove it?', 'Remove')
  asked.value?.answer('')
  expect(await third).toBe(true)
})
