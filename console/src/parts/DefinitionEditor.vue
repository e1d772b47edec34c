<script setup lang="ts">
import { yaml } from '@codemirror/lang-yaml'
import { linter, lintGutter, setDiagnostics, type Diagnostic } from '@codemirror/lint'
import { EditorState } from '@codemirror/state'
import { EditorView } from '@codemirror/view'
import { basicSetup } from 'codemirror'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'

/** The text of a definition, with what is wrong with it at its line. */
const props = defineProps<{ wrong?: string; line?: number }>()
const text = defineModel<string>({ required: true })
const box = ref<HTMLElement>()
let view: EditorView | undefined

// The colours are the page's, so that both looks have their contrast.
const look = EditorView.theme({
  '&': { color: 'var(--ink)', backgroundColor: 'var(--sheet)', fontSize: '0.93rem' },
  '.cm-content': { caretColor: 'var(--ink)', fontFamily: "ui-monospace, 'DejaVu Sans Mono', monospace" },
  '.cm-gutters': { color: 'var(--faint)', backgroundColor: 'var(--ground)', borderRight: '1px solid var(--line)' },
  '.cm-activeLine, .cm-activeLineGutter': { backgroundColor: 'color-mix(in srgb, var(--accent) 9%, transparent)' },
  '.cm-cursor': { borderLeftColor: 'var(--ink)' },
  '&.cm-focused': { outline: '2px solid var(--accent)' },
  '.cm-scroller': { minHeight: '24rem', maxHeight: '60vh', overflow: 'auto' },
  '.cm-line span': { color: 'inherit !important' },
})

onMounted(() => {
  view = new EditorView({
    parent: box.value!,
    state: EditorState.create({
      doc: text.value,
      extensions: [
        basicSetup,
        yaml(),
        lintGutter(),
        linter(null),
        look,
        EditorView.lineWrapping,
        EditorView.contentAttributes.of({ 'aria-label': 'Definition, a YAML file' }),
        EditorView.updateListener.of((change) => {
          if (change.docChanged) text.value = change.state.doc.toString()
        }),
      ],
    }),
  })
})
onBeforeUnmount(() => view?.destroy())
watch(text, (now) => {
  if (view && now !== view.state.doc.toString()) view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: now } })
})
watch(
  () => [props.wrong, props.line] as const,
  ([wrong, line]) => {
    if (!view) return
    const found: Diagnostic[] = []
    if (wrong) {
      const at = view.state.doc.line(Math.min(Math.max(1, line ?? 1), view.state.doc.lines))
      found.push({ from: at.from, to: at.to, severity: 'error', message: wrong })
    }
    view.dispatch(setDiagnostics(view.state, found))
  },
)
</script>

<template>
  <div ref="box" class="editor" />
</template>

<style scoped>
.editor {
  border: 1px solid var(--line);
  border-radius: 4px;
  overflow: hidden;
}
</style>
