import { ref } from 'vue'

/** A question that is put to whoever sits there, before something that cannot be undone. */
export interface Question {
  words: string
  /** What the button that goes on says: what will happen. */
  act: string
  /** Where a text is asked for: its label. */
  label?: string
}

/** What is being asked just now; QuestionDialog shows it. */
export const asked = ref<Question & { answer: (text: string | undefined) => void }>()

function put(q: Question): Promise<string | undefined> {
  asked.value?.answer(undefined) // one at a time: the one before is not answered
  return new Promise((resolve) => {
    asked.value = {
      ...q,
      answer: (text) => {
        asked.value = undefined
        resolve(text)
      },
    }
  })
}

/** Asks whether to go on. */
export const sure = async (words: string, act: string): Promise<boolean> => (await put({ words, act })) !== undefined

/** Asks for a text; empty: nobody gave one. */
export const askFor = async (words: string, act: string, label: string): Promise<string> => (await put({ words, act, label })) ?? ''
