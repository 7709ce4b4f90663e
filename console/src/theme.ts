import 'vuetify/styles'
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
          background: '#eef2f1', surface: '#ffffff', 'surface-variant': '#dfe7e5', 'on-surface-variant': '#2b3a3d',
          primary: '#12616b', secondary: '#8a5a00', error: '#b3261e', warning: '#8a5a00', success: '#2c6e49', info: '#2f5d8a',
        },
      },
      night: {
        dark: true,
        colors: {
          background: '#0f1719', surface: '#162124', 'surface-variant': '#223135', 'on-surface-variant': '#c4d2d1',
          primary: '#6cc4c4', secondary: '#f4b942', error: '#ff8a80', warning: '#f4b942', success: '#8fd3a8', info: '#9dc3ee',
        },
      },
    },
  },
  defaults: { VBtn: { variant: 'text', size: 'small' } },
})
