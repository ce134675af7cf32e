<script setup lang="ts">
import StateShape from './StateShape.vue'

// What is pinned to the foot of the screen while somebody is asked: the words they may give, apart from one another.
defineProps<{ missing?: string[]; wrong?: string }>()
</script>

<template>
  <footer class="decision">
    <p v-if="missing?.length" class="missing"><StateShape name="unsure" /> {{ missing.join('; ') }}</p>
    <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
    <div class="words"><slot /></div>
  </footer>
</template>

<style scoped>
.decision {
  position: sticky;
  bottom: 0;
  z-index: 2;
  background: rgb(var(--v-theme-surface));
  border-top: 1px solid rgba(var(--v-theme-on-surface), 0.2);
  margin: 8px -16px -16px;
  padding: 8px 16px 10px;
}
.missing {
  font-size: 13px;
  margin-bottom: 6px;
}
.words {
  display: flex;
  gap: 12px 28px;
  align-items: center;
}
@media (max-width: 700px) {
  .decision {
    margin: 8px -12px -12px;
    padding: 8px 12px max(10px, env(safe-area-inset-bottom));
  }
  .words {
    flex-wrap: wrap;
    gap: 6px;
  }
}
</style>
