import { definePreset } from '@primeuix/themes'
import autocomplete from '@primeuix/themes/aura/autocomplete'
import base from '@primeuix/themes/aura/base'
import button from '@primeuix/themes/aura/button'
import checkbox from '@primeuix/themes/aura/checkbox'
import chip from '@primeuix/themes/aura/chip'
import confirmdialog from '@primeuix/themes/aura/confirmdialog'
import datatable from '@primeuix/themes/aura/datatable'
import dialog from '@primeuix/themes/aura/dialog'
import iconfield from '@primeuix/themes/aura/iconfield'
import inputnumber from '@primeuix/themes/aura/inputnumber'
import inputtext from '@primeuix/themes/aura/inputtext'
import menu from '@primeuix/themes/aura/menu'
import multiselect from '@primeuix/themes/aura/multiselect'
import paginator from '@primeuix/themes/aura/paginator'
import progressbar from '@primeuix/themes/aura/progressbar'
import radiobutton from '@primeuix/themes/aura/radiobutton'
import select from '@primeuix/themes/aura/select'
import textarea from '@primeuix/themes/aura/textarea'
import toast from '@primeuix/themes/aura/toast'
import toggleswitch from '@primeuix/themes/aura/toggleswitch'
import virtualscroller from '@primeuix/themes/aura/virtualscroller'
import { larch, stone } from '../../faces/colours'

// Only what the pages use of the theme: all of it would be a sixth of what a first page fetches. A component that is new
// here, or stands within another, needs its line.
const components = {
  autocomplete,
  button,
  checkbox,
  chip,
  confirmdialog,
  datatable,
  dialog,
  iconfield,
  inputnumber,
  inputtext,
  menu,
  multiselect,
  paginator,
  progressbar,
  radiobutton,
  select,
  textarea,
  toast,
  toggleswitch,
  virtualscroller,
}

export const preset = definePreset(
  { ...base, components },
  {
    primitive: { borderRadius: { none: '0', xs: '2px', sm: '3px', md: '4px', lg: '6px', xl: '8px' } },
    semantic: {
      primary: larch,
      formField: { paddingX: '0.6rem', paddingY: '0.4rem' },
      colorScheme: {
        light: {
          surface: stone,
          primary: { color: '{primary.600}', contrastColor: '#ffffff', hoverColor: '{primary.700}', activeColor: '{primary.800}' },
        },
        dark: {
          surface: stone,
          primary: { color: '{primary.400}', contrastColor: '{surface.950}', hoverColor: '{primary.300}', activeColor: '{primary.200}' },
        },
      },
    },
    components: {
      // White on the theme's own red is too faint to read.
      button: {
        colorScheme: {
          light: {
            root: {
              danger: {
                background: '{red.700}',
                hoverBackground: '{red.800}',
                activeBackground: '{red.900}',
                borderColor: '{red.700}',
                hoverBorderColor: '{red.800}',
                activeBorderColor: '{red.900}',
              },
            },
            text: { danger: { color: '{red.700}' } },
          },
        },
      },
      datatable: { bodyCell: { padding: '0.45rem 0.75rem' }, headerCell: { padding: '0.5rem 0.75rem' } },
    },
  },
)
