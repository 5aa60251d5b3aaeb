/** Changes between day and night and remembers it for a year. */
export function switchTheme(): void {
  const root = document.documentElement
  const next = root.dataset.theme === 'night' ? 'day' : 'night'
  root.dataset.theme = next
  document.cookie = `theme=${next}; path=/; max-age=31536000; samesite=lax`
}
