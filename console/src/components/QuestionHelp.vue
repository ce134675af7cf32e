<script setup lang="ts">
import type { Schemas } from '../api/client'
import { MarkdownText } from './lazy'
import LinkList from './LinkList.vue'

/** What whoever is asked may need to know: the author's words, and pages outside. */
defineProps<{ question: Schemas['Question'] }>()
</script>

<template>
  <aside v-if="question.knowledge || question.links?.length" aria-label="Good to know">
    <template v-if="question.knowledge">
      <h3>Good to know</h3>
      <MarkdownText :text="question.knowledge" />
    </template>
    <LinkList :links="question.links ?? []" />
  </aside>
</template>

<style scoped>
/* The bar above reaches over the foot of its frame. */
aside {
  margin-top: 24px;
}
h3 {
  font-size: 14px;
  font-weight: 650;
  margin: 12px 0 2px;
}
</style>
