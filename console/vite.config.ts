import react from '@vitejs/plugin-react';
import { defineConfig } from 'vite';

export default defineConfig({
  plugins: [react()],
  build: {
    outDir: 'dist',
    emptyOutDir: true,
    chunkSizeWarningLimit: 1500,
    // What the first drawing needs comes as one file: two dozen small ones take longer to be asked for than to be read.
    rolldownOptions: { output: { codeSplitting: { groups: [{ name: 'first', test: /src\/app\/App\.tsx$/ }] } } },
  },
  // While developing, the API comes from a service that runs on this machine.
  server: { host: '127.0.0.1', proxy: { '/api': 'http://127.0.0.1:8470' } },
});
