import { Component, type ReactNode } from 'react';

import { Failure, Page } from './parts';
import { words } from './words';

/** Shows a fault of the console itself instead of an empty window. */
export class ErrorBoundary extends Component<{ children: ReactNode }, { failure: unknown }> {
  override state = { failure: null as unknown };

  static getDerivedStateFromError(failure: unknown) {
    return { failure };
  }

  override render() {
    if (!this.state.failure) return this.props.children;
    return (
      <Page title={words.theConsoleHasAFault}>
        <Failure failure={this.state.failure} />
        <p>{words.loadThePageAgainTo}</p>
      </Page>
    );
  }
}
