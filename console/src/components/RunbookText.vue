<script setup lang="ts">
import { yaml } from '@codemirror/lang-yaml'
import { HighlightStyle, syntaxHighlighting } from '@codemirror/language'
import { lintGutter, setDiagnostics, type Diagnostic } from '@codemirror/lint'
import { EditorState, StateEffect, StateField } from '@codemirror/state'
import { Decoration, EditorView, lineNumbers, type DecorationSet } from '@codemirror/view'
import { tags } from '@lezer/highlight'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'

import type { Schemas } from '../api/client'

const props = defineProps<{ text: string; findings: Schemas['Finding'][]; line: number }>()
const box = ref<HTMLElement>()
let view: EditorView | undefined

const pick = StateEffect.define<number>()
const pickedLine = Decoration.line({ class: 'picked' })
/** The line that was picked in the picture. */
const picked = StateField.define<DecorationSet>({
  create: () => Decoration.none,
  update(marks, tr) {
    for (const e of tr.effects) if (e.is(pick)) return Decoration.set([pickedLine.range(e.value)])
    return marks.map(tr.changes)
  },
  provide: (f) => EditorView.decorations.from(f),
})

const colours = HighlightStyle.define([
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], class: 'key' },
  { tag: tags.comment, class: 'comment' },
])

function diagnostics(state: EditorState): Diagnostic[] {
  return props.findings
    .filter((f) => f.line >= 1 && f.line <= state.doc.lines)
    .map((f) => {
      const line = state.doc.line(f.line)
      return { from: line.from, to: line.to, severity: f.warning ? 'warning' : 'error', message: f.message }
    })
}

function fill() {
  if (!view) return
  view.setState(
    EditorState.create({
      doc: props.text.replace(/\n$/, ''),
      extensions: [
        EditorState.readOnly.of(true),
        EditorView.editable.of(false),
        EditorView.contentAttributes.of({ tabindex: '0', 'aria-label': 'Text of the runbook', role: 'textbox' }),
        EditorView.contentAttributes.of({ 'aria-multiline': 'true', 'aria-readonly': 'true' }),
        lineNumbers(),
        lintGutter(),
        yaml(),
        syntaxHighlighting(colours),
        picked,
      ],
    }),
  )
  view.dispatch(setDiagnostics(view.state, diagnostics(view.state)))
}

onMounted(() => {
  view = new EditorView({ parent: box.value })
  fill()
})
onBeforeUnmount(() => view?.destroy())
watch(() => [props.text, props.findings], fill)
watch(
  () => props.line,
  (n) => {
    if (!view || n < 1 || n > view.state.doc.lines) return
    const at = view.state.doc.line(n).from
    view.dispatch({ effects: [pick.of(at), EditorView.scrollIntoView(at, { y: 'center' })] })
  },
)
</script>

<template>
  <div ref="box" class="source" />
</template>

<style scoped>
.source {
  background: rgb(var(--v-theme-surface));
  border: 1px solid rgba(var(--v-theme-on-surface), 0.14);
  border-radius: 4px;
  height: 76vh;
}
.source :deep(.cm-editor) {
  height: 100%;
}
.source :deep(.cm-scroller) {
  font-family: var(--mono);
  font-variant-ligatures: none;
  font-size: 12.5px;
  line-height: 1.55;
}
.source :deep(.cm-gutters) {
  background: rgb(var(--v-theme-surface));
  color: rgba(var(--v-theme-on-surface), 0.68);
  border: 0;
}
.source :deep(.key) {
  color: rgb(var(--v-theme-primary));
  font-weight: 550;
}
.source :deep(.comment) {
  color: rgba(var(--v-theme-on-surface), 0.68);
}
.source :deep(.picked) {
  background: rgba(var(--v-theme-primary), 0.14);
}
</style>
