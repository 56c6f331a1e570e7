import { readdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { brotliCompressSync, constants, gzipSync } from 'node:zlib'

import purgecss from '@fullhuman/postcss-purgecss'
import vue from '@vitejs/plugin-vue'
import { BootstrapVueNextResolver } from 'bootstrap-vue-next/resolvers'
import Components from 'unplugin-vue-components/vite'
import { defineConfig, type Plugin } from 'vite'

const dist = '../server/page/dist'

/** Puts smaller forms beside what a browser loads, so that the server need not make them. */
function smaller(): Plugin {
  return {
    name: 'smaller',
    apply: 'build',
    closeBundle() {
      for (const file of readdirSync(dist, { recursive: true, encoding: 'utf8' })) {
        if (!/\.(js|css|html|svg)$/.test(file)) continue
        const name = join(dist, file)
        const content = readFileSync(name)
        const quality = { [constants.BROTLI_PARAM_QUALITY]: constants.BROTLI_MAX_QUALITY }
        writeFileSync(`${name}.br`, brotliCompressSync(content, { params: quality }))
        writeFileSync(`${name}.gz`, gzipSync(content, { level: 9 }))
      }
    },
  }
}

export default defineConfig({
  plugins: [
    // Between two elements on two lines stands a space, as in HTML.
    vue({ template: { compilerOptions: { whitespace: 'preserve' } } }),
    Components({ dts: 'src/components.d.ts', dirs: ['src/components'], resolvers: [BootstrapVueNextResolver()] }),
    smaller(),
  ],
  css: {
    postcss: {
      plugins: [
        // Of Bootstrap's rules, those that our pages and the parts that we take use.
        purgecss({
          content: [
            'index.html',
            'src/**/*.vue',
            'src/**/*.ts',
            'node_modules/bootstrap-vue-next/dist/{BAlert,BApp,BCloseButton,BModal,BDropdown,BFormCheckbox,BNav,BTooltip}*.js',
          ],
          // How our tables and alerts look is said in our own rules alone.
          blocklist: [/^(b-)?table(-|$)/, /^alert(-|$)/],
          safelist: { greedy: [/data-bs-theme/, /data-v-/, /data-label/, /^cm-/, /^v-/, /^tooltip/, /^bs-tooltip/] },
        }),
      ],
    },
  },
  build: {
    outDir: dist,
    emptyOutDir: true,
    assetsInlineLimit: (file) => (file.endsWith('.woff2') ? false : undefined),
    chunkSizeWarningLimit: 700,
    cssCodeSplit: false,
    rolldownOptions: {
      output: {
        // What every page needs comes in two files, not in thirty; editor, differences
        // and charts come when somebody opens them.
        codeSplitting: {
          groups: [
            {
              name: 'vue',
              test: /node_modules[\\/](@vue|vue|vue-router|pinia|openapi-fetch|openapi-typescript-helpers)[\\/]/,
            },
            {
              name: 'board',
              test: /src[\\/](?!pages|main|App|styles|components[\\/](Build|Code|Diff|Deployment|Drift|EditPlan|Impact|MetricsChart|Function|Mirror|Place|Plan|Provenance|Shift|StageSecrets|CaseResult|DeliveryMeasures|Rendered|FileTree|FileHistory|LineNotes|LogLines|Typed|Shortcut|SessionBox|Leave))|src[\\/]pages[\\/](ServiceFrame|BoardPage)/,
            },
          ],
        },
      },
    },
  },
  server: { proxy: { '/api': 'http://127.0.0.1:7070', '/git': 'http://127.0.0.1:7070' } },
})
