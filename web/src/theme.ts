import { createVuetify } from 'vuetify'
import { aliases, mdi } from 'vuetify/iconsets/mdi-svg'

// Navy for what stays, lantern-amber for what one acts on. States have a colour and, always, a shape and a word.
const light = {
  background: '#f4f6fa',
  surface: '#ffffff',
  primary: '#14274a',
  secondary: '#8a5a00',
  lantern: '#ffb627',
  good: '#1d6b3f',
  bad: '#b3261e',
  caution: '#8a5a00',
  quiet: '#5d6b82',
  info: '#1f4e8c',
  error: '#b3261e',
}
const dark = {
  background: '#0b1628',
  surface: '#122140',
  primary: '#ffb627',
  secondary: '#ffcf6b',
  lantern: '#ffb627',
  good: '#6fd19a',
  bad: '#ff8a80',
  caution: '#ffcf6b',
  quiet: '#9fb0cc',
  info: '#8fbcff',
  error: '#ff8a80',
}

export const vuetify = createVuetify({
  icons: { defaultSet: 'mdi', aliases, sets: { mdi } },
  theme: {
    defaultTheme: 'system',
    themes: { light: { dark: false, colors: light }, dark: { dark: true, colors: dark } },
  },
  defaults: {
    VBtn: { variant: 'flat', rounded: 'sm' },
    VTextField: { variant: 'outlined', density: 'compact', hideDetails: 'auto' },
    VCard: { rounded: 'sm', elevation: 0, border: true },
  },
})
