// One accent, the rust of larches in autumn, on the greys of stone.
export const larch = {
  50: '#fdf5ef',
  100: '#f9e5d6',
  200: '#f2c8ab',
  300: '#e8a478',
  400: '#db7d45',
  500: '#c4622a',
  600: '#a4501c',
  700: '#863f18',
  800: '#6b3418',
  900: '#582c17',
  950: '#30150a',
}
export const stone = {
  0: '#ffffff',
  50: '#f7f6f4',
  100: '#eeece8',
  200: '#dedad3',
  300: '#c5bfb5',
  400: '#9d958a',
  500: '#7a7268',
  600: '#5f584f',
  700: '#474139',
  800: '#2d2924',
  900: '#1f1c19',
  950: '#151311',
}
