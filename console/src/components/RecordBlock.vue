<script setup lang="ts">
import { useElementVisibility } from '@vueuse/core'
import { ref } from 'vue'

import type { Schemas } from '../api/client'
import { clockTime, exact } from '../composables/clock'
import { human, lookOf, outputs, said, waitsForPerson } from '../composables/record'
import OutputFold from './OutputFold.vue'

/** Some entries of a record that follow one another. */
const props = defineProps<{ entries: Schemas['Entry'][]; picked?: number; again?: boolean; busy?: string }>()
const emit = defineEmits<{ again: [look: Schemas['NewLook']] }>()
const block = ref<HTMLElement>()
/** Near the view there is also what can be opened and pressed. */
const near = useElementVisibility(block, { rootMargin: '800px 0px' })
/** A look on many targets is taken again as one: at the last of its entries that follow one another. */
const isLast = (n: number) => {
  const [look, next] = [lookOf(props.entries[n]!), props.entries[n + 1]]
  return look !== undefined && !(next && lookOf(next)?.step === look.step && lookOf(next)?.run === look.run)
}
</script>

<template>
  <li ref="block" class="block">
    <ol>
      <li
        v-for="(e, n) in entries"
        :id="`entry-${e.seq}`"
        :key="e.seq"
        class="entry"
        :class="{ human: human(e), person: waitsForPerson(e), picked: picked === e.seq }"
      >
        <time :datetime="e.at" class="faint" :title="near ? exact(e.at) : undefined">{{ clockTime(e.at) }}</time>
        <b :class="[e.kind.replace('.', '-'), e.word]">{{ e.word }}</b>
        <div>
          <p>{{ said(e) }}</p>
          <template v-if="near">
            <OutputFold v-for="o in outputs(e)" :key="o.shown" v-bind="o" />
            <button
              v-if="again && isLast(n)"
              type="button"
              class="again"
              :disabled="busy !== undefined"
              @click="emit('again', lookOf(e)!)"
            >
              {{ busy === lookOf(e)?.step ? 'looking…' : 'look again' }}
            </button>
          </template>
        </div>
      </li>
    </ol>
  </li>
</template>

<style scoped>
.block {
  content-visibility: auto;
  contain-intrinsic-size: auto 2000px;
}
ol {
  list-style: none;
  padding: 0;
}
.entry {
  display: grid;
  grid-template-columns: 70px 90px minmax(0, 1fr);
  gap: 4px;
  align-items: baseline;
  padding: 4px 0;
  border-top: 1px solid rgba(var(--v-theme-on-surface), 0.12);
}
time {
  font-variant-numeric: tabular-nums;
}
p {
  white-space: pre-line;
  overflow-wrap: anywhere;
}
b {
  font-weight: 600;
  font-size: 12.5px;
}
.again {
  background: none;
  border: 0;
  padding: 2px 4px;
  min-height: 24px;
  font-size: 13px;
  color: rgb(var(--v-theme-primary));
  text-decoration: underline;
  cursor: pointer;
}
.entry.human {
  background: rgba(var(--v-theme-primary), 0.1);
  border-radius: 3px;
}
.entry.picked {
  outline: 2px solid rgb(var(--v-theme-primary));
  border-radius: 3px;
}
.person b,
.step-troubled,
.lock-awaited,
.check-unsure,
.unknown,
.look-incomplete {
  color: rgb(var(--v-theme-warning));
}
.failed {
  color: rgb(var(--v-theme-error));
}
.check-passes,
.incident-closed {
  color: rgb(var(--v-theme-success));
}
@media (max-width: 700px) {
  .entry {
    grid-template-columns: 64px 1fr;
  }
  .entry > div {
    grid-column: 1 / -1;
    margin-bottom: 4px;
  }
}
</style>
