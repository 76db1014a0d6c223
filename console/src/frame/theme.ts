import { ref, watchEffect } from 'vue'

export type Theme = 'system' | 'light' | 'dark'

const KEPT = 'openlatch theme'
const wanted = window.matchMedia('(prefers-color-scheme: dark)')

export const theme = ref<Theme>((localStorage.getItem(KEPT) as Theme | null) ?? 'system')
export const isDark = ref(false)

function apply(): void {
  isDark.value = theme.value === 'dark' || (theme.value === 'system' && wanted.matches)
  document.documentElement.classList.toggle('dark', isDark.value)
}

/** Keep the page in the theme that was chosen, or in the system's. */
export function followTheme(): void {
  wanted.addEventListener('change', apply)
  watchEffect(() => {
    localStorage.setItem(KEPT, theme.value)
    apply()
  })
}
