import { Component, type ReactNode } from 'react';

import { Failure, Page } from './parts';

/** Shows a fault of the console itself instead of an empty window. */
export class ErrorBoundary extends Component<{ children: ReactNode }, { failure: unknown }> {
  override state = { failure: null as unknown };

  static getDerivedStateFromError(failure: unknown) {
    return { failure };
  }

  override render() {
    if (!this.state.failure) return this.props.children;
    return (
      <Page title="The console has a fault">
        <Failure failure={this.state.failure} />
        <p>Load the page again to go on. Nothing in the service is affected.</p>
      </Page>
    );
  }
}
