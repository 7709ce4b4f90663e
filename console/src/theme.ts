import 'vuetify/styles/core'
import { createVuetify } from 'vuetify'
import { aliases, mdi } from 'vuetify/iconsets/mdi-svg'

const key = 'osprey.theme'

/** The theme that the reader chose before, or that of the system. */
function firstTheme(): 'harbour' | 'night' {
  const kept = localStorage.getItem(key)
  if (kept === 'harbour' || kept === 'night') return kept
  return window.matchMedia('(prefers-color-scheme: dark)').matches ? 'night' : 'harbour'
}

/** Keeps the theme for the next visit. */
export function keepTheme(name: string) {
  localStorage.setItem(key, name)
}

export const vuetify = createVuetify({
  icons: { defaultSet: 'mdi', aliases, sets: { mdi } },
  theme: {
    defaultTheme: firstTheme(),
    themes: {
      harbour: {
        dark: false,
        colors: {
          background: '#f1f4f3', surface: '#ffffff', 'surface-variant': '#e3e9e7', 'on-surface-variant': '#1b2426', 'on-surface': '#1b2426',
          primary: '#1558b0', secondary: '#5a676a', error: '#b3261e', warning: '#a64b06', success: '#2c6e49', info: '#2b53a0',
        },
      },
      night: {
        dark: true,
        colors: {
          background: '#0d1416', surface: '#141d20', 'surface-variant': '#223135', 'on-surface-variant': '#e3ebea', 'on-surface': '#e3ebea',
          primary: '#8bb8ff', 'on-primary': '#0d1416', secondary: '#9dadae', error: '#ff8a80', warning: '#ffb26b', success: '#8fd3a8', info: '#a4c3ff',
        },
      },
    },
  },
  defaults: { VBtn: { variant: 'text', size: 'small' } },
})
