<script setup lang="ts" generic="T extends object">
import { computed, ref } from 'vue'

/** A list of what is set up: found by a few letters, sorted by a click, with what can be done at its end. */
export interface Column<R> {
  title: string
  key: string
  value: (row: R) => string
  wide?: boolean
  mono?: boolean
}
const props = defineProps<{
  label: string
  rows: T[] | undefined
  columns: Column<T>[]
  empty: string
  error?: string
}>()
const text = ref('')
const headers = computed(() => [
  ...props.columns.map((c) => ({
    title: c.title,
    key: c.key,
    value: (row: T) => c.value(row),
    cellProps: { class: [c.wide ? 'wide' : '', c.mono ? 'mono' : ''].join(' ') },
    headerProps: { class: c.wide ? 'wide' : '' },
  })),
  { title: 'Acts', key: 'acts', sortable: false, align: 'end' as const },
])
const rows = computed(() => [...(props.rows ?? [])])
</script>

<template>
  <p v-if="error" role="alert" class="empty">{{ error }}</p>
  <template v-else-if="rows.length">
    <v-text-field
      v-if="rows.length > 8"
      v-model="text"
      class="find"
      :label="`Find in ${label.toLowerCase()}`"
      density="compact"
      hide-details
      clearable
    />
    <v-data-table
      :items="rows"
      :headers="headers"
      :search="text"
      :items-per-page="50"
      :hide-default-footer="rows.length <= 50"
      density="compact"
      :aria-label="label"
      class="table"
    >
      <template v-for="c in columns" :key="c.key" #[`item.${c.key}`]="{ item }">
        <slot :name="c.key" :row="item as T">{{ c.value(item as T) }}</slot>
      </template>
      <template #[`item.acts`]="{ item }">
        <span class="acts"><slot name="acts" :row="item as T" /></span>
      </template>
    </v-data-table>
  </template>
  <p v-else-if="props.rows" class="empty">{{ empty }}</p>
</template>

<style scoped>
.find {
  max-width: 320px;
  margin-bottom: 8px;
}
.table {
  background: transparent;
}
.acts {
  display: inline-flex;
  flex-wrap: wrap;
  gap: 4px;
  justify-content: flex-end;
}
</style>
