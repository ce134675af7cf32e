/** Amber means that a person is waited for, red means harm; nothing else has these colours. */
export const themes = {
  light: {
    dark: false,
    colors: {
      background: '#f7f6f2',
      surface: '#ffffff',
      primary: '#14625e',
      secondary: '#4d5b66',
      error: '#b3261e',
      warning: '#8a5200',
      success: '#2b6a3f',
      info: '#2d5f8a',
      'on-background': '#1b242c',
      'on-surface': '#1b242c',
    },
  },
  dark: {
    dark: true,
    colors: {
      background: '#10151a',
      surface: '#171e25',
      primary: '#7fcac3',
      secondary: '#a9b6c1',
      error: '#ff8d83',
      warning: '#f0b34e',
      success: '#86cf9d',
      info: '#8dbfe8',
      'on-background': '#dfe6ec',
      'on-surface': '#dfe6ec',
    },
  },
}
