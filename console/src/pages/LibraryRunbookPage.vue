<script setup lang="ts">
import { computed } from 'vue'
import { useRoute } from 'vue-router'

import DocumentText from '../components/DocumentText.vue'
import { FlowGraph } from '../components/lazy'
import { useLibraryRunbook } from '../composables/data'
import { useSession } from '../composables/session'

const route = useRoute()
const session = useSession()
const name = computed(() => String(route.params.name))
const q = useLibraryRunbook(name)
const b = computed(() => q.data.value?.runbook)
</script>

<template>
  <div class="page">
    <p v-if="q.error.value" role="alert" class="empty">{{ q.error.value.message }}</p>
    <template v-if="b && q.data.value">
      <header class="head">
        <div>
          <p class="faint mono">library / {{ b.name }}</p>
          <h1>{{ b.title }}</h1>
          <p class="about">{{ b.about }}</p>
          <p v-if="b.harm" class="about"><strong>Harm:</strong> {{ b.harm }}</p>
          <p class="faint">
            roles {{ b.roles.join(', ') }} · held to {{ b.cases }} cases ·
            {{ b.tags.join(', ') }}
          </p>
          <p v-if="b.bound.length">
            Bound here as
            <template v-for="(x, i) in b.bound" :key="x"
              ><template v-if="i">, </template><router-link :to="`/runbooks/${x}`">{{ x }}</router-link></template
            >
          </p>
        </div>
        <v-btn
          v-if="session.may('author')"
          color="primary"
          :to="{ path: '/documents/binding', query: { library: b.name } }"
          >Make it yours</v-btn
        >
      </header>
      <table v-if="q.data.value.inputs.length" class="plain inputs" aria-label="Inputs">
        <thead>
          <tr>
            <th>Input</th>
            <th>Is</th>
            <th class="wide">Type</th>
            <th>Unless said</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="i in q.data.value.inputs" :key="i.name">
            <td class="mono">{{ i.name }}</td>
            <td>{{ i.label }}</td>
            <td class="wide faint">{{ i.type }}</td>
            <td>
              <span v-if="i.default" class="mono">{{ i.default }}</span>
              <span v-else class="faint">must be given</span>
            </td>
          </tr>
        </tbody>
      </table>
      <div class="both">
        <div class="picture">
          <h2>Flow</h2>
          <FlowGraph :graph="q.data.value.graph" />
        </div>
        <div class="words">
          <h2>Text</h2>
          <DocumentText :text="q.data.value.text" :findings="[]" label="Text of the library's runbook" />
        </div>
      </div>
    </template>
  </div>
</template>

<style scoped>
.head {
  display: flex;
  gap: 16px;
  justify-content: space-between;
  align-items: flex-start;
}
.about {
  max-width: 760px;
}
.inputs {
  max-width: 860px;
  margin: 8px 0 16px;
}
</style>
