<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { chosen, isConflict, type Choice, type Piece } from '../composables/merge'

/** Where somebody pushed other words at the same place: what stands is asked, and nothing of either is lost by itself. */
const props = defineProps<{ pieces: Piece[]; by: string }>()
const emit = defineEmits<{ done: [text: string] }>()
const conflicts = computed(() => props.pieces.filter(isConflict))
const choices = ref<Choice[]>([])
watch(conflicts, (c) => (choices.value = c.map(() => 'both')), { immediate: true })
const options: { value: Choice; title: string }[] = [
  { value: 'mine', title: 'Mine' },
  { value: 'theirs', title: 'Theirs' },
  { value: 'both', title: 'Both' },
]
</script>

<template>
  <section class="merge" aria-label="Merge">
    <h2>{{ by }} pushed a new revision while you wrote</h2>
    <p>
      What lies apart is merged already. {{ conflicts.length === 1 ? 'At one place' : `At ${conflicts.length} places` }}
      you both wrote: choose what stands.
    </p>
    <fieldset v-for="(c, i) in conflicts" :key="i">
      <legend>Place {{ i + 1 }}</legend>
      <div class="sides">
        <div>
          <h3>Mine</h3>
          <pre class="mono">{{ c.mine.join('\n') || '(taken out)' }}</pre>
        </div>
        <div>
          <h3>Theirs</h3>
          <pre class="mono">{{ c.theirs.join('\n') || '(taken out)' }}</pre>
        </div>
      </div>
      <v-radio-group v-model="choices[i]" inline hide-details density="compact">
        <v-radio v-for="o in options" :key="o.value" :value="o.value" :label="o.title" />
      </v-radio-group>
    </fieldset>
    <v-btn color="primary" variant="flat" size="small" @click="emit('done', chosen(pieces, choices))">Merge so</v-btn>
  </section>
</template>

<style scoped>
.merge {
  padding: 12px 16px;
  margin: 8px 0;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.16);
  border-left: 6px solid rgb(var(--v-theme-warning));
  border-radius: 6px;
  background: rgb(var(--v-theme-surface));
}
.merge h2 {
  margin: 0 0 4px;
}
fieldset {
  margin: 8px 0;
  padding: 8px 12px;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.16);
  border-radius: 4px;
  min-width: 0;
}
.sides {
  display: grid;
  grid-template-columns: repeat(2, minmax(0, 1fr));
  gap: 12px;
}
pre {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
@media (max-width: 700px) {
  .sides {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
