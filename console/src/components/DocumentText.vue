<script setup lang="ts">
import { autocompletion, completionKeymap } from '@codemirror/autocomplete'
import { defaultKeymap, history, historyKeymap } from '@codemirror/commands'
import { yaml } from '@codemirror/lang-yaml'
import { HighlightStyle, syntaxHighlighting } from '@codemirror/language'
import { lintGutter, setDiagnostics, type Diagnostic } from '@codemirror/lint'
import { EditorState, StateEffect, StateField } from '@codemirror/state'
import { Decoration, EditorView, keymap, lineNumbers, type DecorationSet } from '@codemirror/view'
import { tags } from '@lezer/highlight'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'

import type { Schemas } from '../api/client'
import { offered } from '../composables/offered'
import { smallest } from '../composables/smallest'

/** The text of a document: to read, or with `editable` to write, where values that were `seen` are offered. */
const props = defineProps<{
  text: string
  findings: Schemas['Finding'][]
  label: string
  line?: number
  editable?: boolean
  seen?: Schemas['Seen'][]
}>()
const emit = defineEmits<{ 'update:text': [text: string]; line: [line: number] }>()
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

/** What it takes to read a text, and what it takes to write one. */
const reading = () => [
  EditorState.readOnly.of(true),
  EditorView.editable.of(false),
  EditorView.contentAttributes.of({ tabindex: '0', role: 'textbox', 'aria-readonly': 'true' }),
]
const writing = () => [
  EditorView.lineWrapping, // a condition is read whole while it is written
  history(),
  // Tab leaves the text, as from any other field.
  keymap.of([...completionKeymap, ...historyKeymap, ...defaultKeymap]),
  autocompletion({
    override: [
      (c) => {
        const line = c.state.doc.lineAt(c.pos)
        const o = offered(c.state.sliceDoc(line.from, c.pos), props.seen ?? [])
        return o && { from: line.from + o.from, options: o.options.map((label) => ({ label })) }
      },
    ],
  }),
  EditorView.updateListener.of((u) => {
    if (u.docChanged) emit('update:text', u.state.doc.toString() + '\n')
    if (u.selectionSet || u.docChanged) emit('line', u.state.doc.lineAt(u.state.selection.main.head).number)
  }),
]

function fill() {
  if (!view) return
  view.setState(
    EditorState.create({
      doc: props.text.replace(/\n$/, ''),
      extensions: [
        props.editable ? writing() : reading(),
        EditorView.contentAttributes.of({ tabindex: '0', 'aria-label': props.label, 'aria-multiline': 'true' }),
        lineNumbers(),
        lintGutter(),
        yaml(),
        syntaxHighlighting(colours),
        picked,
      ],
    }),
  )
  mark()
}
const mark = () => view?.dispatch(setDiagnostics(view.state, diagnostics(view.state)))

onMounted(() => {
  view = new EditorView({ parent: box.value })
  fill()
})
onBeforeUnmount(() => view?.destroy())
watch(
  () => props.text,
  (now) => {
    const is = view?.state.doc.toString() ?? ''
    if (now.trimEnd() === is.trimEnd()) return // what was just written here
    // What is altered beside it can be undone like what is written in it.
    if (view && props.editable && is) view.dispatch({ changes: smallest(is, now.replace(/\n$/, '')) })
    else fill()
  },
)
watch(() => props.findings, mark)
watch(
  () => props.line,
  (n) => {
    if (!view || !n || n < 1 || n > view.state.doc.lines) return
    const at = view.state.doc.line(n).from
    view.dispatch({ selection: { anchor: at }, effects: [pick.of(at), EditorView.scrollIntoView(at, { y: 'center' })] })
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
.source :deep(.cm-focused) {
  outline: 2px solid rgb(var(--v-theme-primary));
}
.source :deep(.cm-cursor) {
  border-left-color: rgb(var(--v-theme-on-surface));
}
.source :deep(.cm-tooltip) {
  background: rgb(var(--v-theme-surface));
  color: rgb(var(--v-theme-on-surface));
  border: 1px solid rgba(var(--v-theme-on-surface), 0.3);
}
.source :deep(.cm-tooltip-autocomplete > ul > li[aria-selected]) {
  background: rgb(var(--v-theme-primary));
  color: rgb(var(--v-theme-on-primary));
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
