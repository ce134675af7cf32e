<script setup lang="ts">
import { pages } from './pages'

const open = defineModel<boolean>({ required: true })
const shortcuts = [
  ['Ctrl K, /', 'search or act'],
  ...pages.filter((p) => p.key).map((p) => [p.key, p.title]),
  ['a', 'go to the button that approves'],
  ['x', 'go to the button that refuses'],
  ['d', 'light or dark'],
  ['?', 'these keys'],
  ['Esc', 'close'],
]
</script>

<template>
  <v-dialog v-model="open" max-width="420" aria-label="Keys">
    <div class="keys">
      <h2>Keys</h2>
      <table class="plain">
        <tbody>
          <tr v-for="[k, what] in shortcuts" :key="k">
            <td class="mono">{{ k }}</td>
            <td>{{ what }}</td>
          </tr>
        </tbody>
      </table>
      <v-btn size="small" class="mt-3" @click="open = false">Close</v-btn>
    </div>
  </v-dialog>
</template>

<style scoped>
.keys {
  background: rgb(var(--v-theme-surface));
  padding: 8px 24px 20px;
  border-radius: 6px;
  overflow-y: auto;
}
</style>
