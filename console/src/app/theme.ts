import { createTheme } from '@mui/material/styles';

/** The face of addresses, MAC addresses and what devices say. */
export const mono = 'ui-monospace, "Cascadia Mono", "DejaVu Sans Mono", monospace';

/** The house's colours: slate green and amber, each in a form for light rooms and for dark ones. */
export const theme = createTheme({
  cssVariables: { colorSchemeSelector: 'data' },
  colorSchemes: {
    light: {
      palette: {
        primary: { main: '#1f4d42' },
        secondary: { main: '#8a5a00' },
        warning: { main: '#9a5b00' },
        success: { main: '#23693f' },
        error: { main: '#b3261e' },
        info: { main: '#0b5c86' },
        background: { default: '#f4f5f1', paper: '#ffffff' },
      },
    },
    dark: {
      palette: {
        primary: { main: '#8fd0b8' },
        secondary: { main: '#e7b85c' },
        warning: { main: '#f0b55a' },
        success: { main: '#86cf9f' },
        error: { main: '#f2a39d' },
        info: { main: '#8cc4e6' },
        background: { default: '#121614', paper: '#1a201d' },
      },
    },
  },
  shape: { borderRadius: 8 },
  typography: {
    fontFamily: 'system-ui, "Segoe UI", "Noto Sans", "DejaVu Sans", sans-serif',
    h1: { fontSize: '1.6rem', fontWeight: 650 },
    h2: { fontSize: '1.15rem', fontWeight: 650 },
    h3: { fontSize: '1rem', fontWeight: 650 },
    button: { textTransform: 'none', fontWeight: 600 },
  },
  components: {
    MuiPaper: { defaultProps: { elevation: 0 }, styleOverrides: { root: { backgroundImage: 'none' } } },
    // The library's own grey is too faint on the page's ground.
    MuiToggleButton: { styleOverrides: { root: ({ theme: t }) => ({ color: t.vars.palette.text.primary }) } },
    MuiButton: { defaultProps: { disableElevation: true } },
  },
});
