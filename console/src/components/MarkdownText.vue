<script setup lang="ts">
import { computed } from 'vue'

import { markdown } from '../composables/markdown'

/** What an author wrote in Markdown. */
const props = defineProps<{ text: string }>()
const html = computed(() => markdown(props.text))
</script>

<template>
  <!-- Whatever is no Markdown is escaped: see markdown.ts. -->
  <!-- eslint-disable-next-line vue/no-v-html -->
  <div class="text" v-html="html" />
</template>

<style scoped>
.text {
  font-size: 14px;
  line-height: 21px;
  overflow-wrap: anywhere;
}
.text :deep(p),
.text :deep(ul),
.text :deep(ol),
.text :deep(pre),
.text :deep(table) {
  margin: 0 0 8px;
}
.text :deep(ul),
.text :deep(ol) {
  padding-left: 20px;
}
.text :deep(h4) {
  font-size: 14px;
  font-weight: 650;
  margin: 8px 0 4px;
}
.text :deep(code) {
  font-family: 'JetBrains Mono Variable', monospace;
  font-size: 12.5px;
}
</style>
