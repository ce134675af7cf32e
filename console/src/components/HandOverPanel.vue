<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { relative, useClock } from '../composables/clock'
import BriefSide from './BriefSide.vue'
import WaitingPanel from './WaitingPanel.vue'

// What somebody needs who takes over: why, what was changed and how that went, and how it stands.
const props = defineProps<{ over: Schemas['HandedOver']; holder?: string; banded?: boolean }>()
const now = useClock()
const brief = computed<Schemas['Brief']>(() => ({
  headline: { says: '', what: '' },
  harm: props.over.harm,
  trends: props.over.trends,
  parts: [],
  facts: [],
  history: { says: props.over.before },
}))
</script>

<template>
  <WaitingPanel wanted="A person is needed" :from="over.to ? `handed over to ${over.to}` : (over.state ?? '')">
    <template #from>
      <span class="num">{{ over.at ? ` ${relative(over.at, now)}` : '' }}</span> by
      <router-link :to="`/runs/${over.run}`">{{ over.runbook }}</router-link>
    </template>
    <h2 class="what">{{ over.because }}</h2>
    <div class="sides">
      <div class="left">
        <h3>What was changed</h3>
        <p v-if="!over.changed.length" class="changed">Nothing was changed.</p>
        <ul v-else class="changed">
          <li v-for="c in over.changed" :key="c.title">
            “{{ c.title }}” on {{ c.targets }} {{ c.targets === 1 ? 'target' : 'targets' }}:
            <strong>{{ c.says }}</strong>
          </li>
        </ul>
        <h3>Who has it</h3>
        <p class="holder">
          {{
            holder ? `${holder} holds it.` : 'Nobody has taken it. It stays open, and nobody else is called by itself.'
          }}
        </p>
      </div>
      <BriefSide :brief="brief" :banded="banded" />
    </div>
  </WaitingPanel>
</template>

<style scoped>
ul {
  padding-left: 18px;
}
</style>
