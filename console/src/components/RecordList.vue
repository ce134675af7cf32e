<script setup lang="ts">
import { shallowRef, watch } from 'vue'

import type { Schemas } from '../api/client'
import { blocks } from '../composables/record'
import RecordBlock from './RecordBlock.vue'

/**
 * The record, whole: each entry is a line that stays, so that it is found with the browser's own search and printed;
 * what belongs to it beside that is there while one is near.
 */
const props = defineProps<{ entries: Schemas['Entry'][]; picked?: number; again?: boolean; busy?: string }>()
const emit = defineEmits<{ again: [look: Schemas['NewLook']] }>()
const list = shallowRef<Schemas['Entry'][][]>([])
watch(
  () => props.entries,
  (entries) => (list.value = blocks(entries, list.value)),
  { immediate: true },
)
</script>

<template>
  <ol class="record">
    <RecordBlock
      v-for="b in list"
      :key="b[0]!.seq"
      :entries="b"
      :picked="b.some((e) => e.seq === picked) ? picked : undefined"
      :again="again"
      :busy="busy"
      @again="emit('again', $event)"
    />
  </ol>
</template>

<style scoped>
.record {
  list-style: none;
  padding: 0;
}
</style>
