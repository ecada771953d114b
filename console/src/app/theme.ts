import { createVuetify } from 'vuetify'
import { aliases, mdi } from 'vuetify/iconsets/mdi-svg'

const KEPT = 'dravo-theme'
const chosen = localStorage.getItem(KEPT)

export function keepTheme(name: string): void {
  localStorage.setItem(KEPT, name)
}

const cspNonce = document.querySelector<HTMLMetaElement>('meta[name="csp-nonce"]')?.content

// Colors by meaning: well, look (needs attention), failed, rest.
export const vuetify = createVuetify({
  icons: { defaultSet: 'mdi', aliases, sets: { mdi } },
  theme: {
    cspNonce,
    // The theme of the system until the user chooses one, also when the system changes it.
    defaultTheme: chosen === 'dark' || chosen === 'light' ? chosen : 'system',
    themes: {
      light: {
        dark: false,
        colors: {
          background: '#FAF8F3',
          surface: '#FFFFFF',
          'on-background': '#1D2733',
          'on-surface': '#1D2733',
          primary: '#1B6B73',
          'on-primary': '#FFFFFF',
          well: '#41692F',
          look: '#8F520A',
          failed: '#A93535',
          rest: '#586472',
          error: '#A93535',
          line: '#DDD8CC',
        },
      },
      dark: {
        dark: true,
        colors: {
          background: '#141A20',
          surface: '#1C242C',
          'on-background': '#E8E6DF',
          'on-surface': '#E8E6DF',
          primary: '#6FC3CB',
          'on-primary': '#0C1519',
          well: '#9CCB87',
          look: '#EBA659',
          failed: '#F08B8B',
          rest: '#A3AFBD',
          error: '#F08B8B',
          line: '#34404B',
        },
      },
    },
  },
  defaults: {
    VTextField: { variant: 'outlined', density: 'compact', hideDetails: 'auto' },
    VSelect: { variant: 'outlined', density: 'compact', hideDetails: 'auto' },
    VTextarea: { variant: 'outlined', density: 'compact', hideDetails: 'auto' },
    VFileInput: { variant: 'outlined', density: 'compact', hideDetails: 'auto' },
    VAutocomplete: { variant: 'outlined', density: 'compact', hideDetails: 'auto' },
    VCombobox: { variant: 'outlined', density: 'compact', hideDetails: 'auto' },
    VBtn: { variant: 'flat', rounded: 'md' },
    VCheckbox: { density: 'compact', hideDetails: 'auto', color: 'primary' },
    VSwitch: { density: 'compact', hideDetails: 'auto', color: 'primary' },
    VTabs: { color: 'primary', density: 'compact' },
  },
})
