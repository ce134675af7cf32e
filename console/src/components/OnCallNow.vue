<script setup lang="ts">
import type { Schemas } from '../api/client'
import { exact, relative, useClock } from '../composables/clock'
import StateShape from './StateShape.vue'

// Who of each team is on call, line by line, and when nobody will be.
defineProps<{ teams: Schemas['OnCall'][] }>()
const now = useClock()
</script>

<template>
  <table class="plain" aria-label="On call now">
    <thead>
      <tr>
        <th scope="col">Team</th>
        <th scope="col">Primary</th>
        <th scope="col" class="wide">Secondary</th>
        <th scope="col">Until</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="t in teams" :key="t.team">
        <td>{{ t.title || t.team }}</td>
        <td>
          <template v-if="t.duties[0]?.person">
            {{ t.duties[0].person }}
            <span v-if="t.duties[0].instead_of" class="faint">instead of {{ t.duties[0].instead_of }}</span>
          </template>
          <strong v-else class="nobody"><StateShape name="pennant" /> nobody</strong>
          <div v-if="t.holes[0]" class="nobody">
            <StateShape name="pennant" /> nobody from
            <span :title="exact(t.holes[0].from)">{{ relative(t.holes[0].from, now) }}</span>
          </div>
          <div v-if="t.twice[0]" class="nobody">
            <StateShape name="pennant" /> {{ t.twice[0].person }} alone in two lines from
            <span :title="exact(t.twice[0].from)">{{ relative(t.twice[0].from, now) }}</span>
          </div>
        </td>
        <td class="wide">
          {{
            t.duties
              .slice(1)
              .map((d) => d.person || 'nobody')
              .join(', ')
          }}
        </td>
        <td class="num">
          <span v-if="t.duties[0]" :title="exact(t.duties[0].until)">{{ relative(t.duties[0].until, now) }}</span>
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.nobody {
  color: rgb(var(--v-theme-warning));
}
</style>
